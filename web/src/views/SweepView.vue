<template>
  <div class="page">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span>
      <template v-if="sheet"
        ><router-link :to="`/desk/${sheet.study}`" data-testid="to-desk">{{ sheet.study_name }}</router-link
        ><span class="muted">▸</span><router-link :to="`/runs/${sheet.study}`">Runs</router-link></template
      >
      <span class="muted">▸</span><span>Sweep</span>
      <span v-if="sheet" class="muted num" data-testid="sweep-state">{{ words }}</span>
      <span class="sp" />
      <v-btn v-if="busy" variant="outlined" data-testid="sweep-stop" @click="act('stop')">Stop</v-btn>
      <v-btn v-else-if="broken" variant="outlined" data-testid="sweep-again" @click="act('again')"
        >Try {{ broken }} again</v-btn
      >
      <v-btn :disabled="picked.length < 2" variant="outlined" data-testid="sweep-compare" @click="compare"
        >Compare</v-btn
      >
    </header>
    <main>
      <p v-if="problem" class="bad" role="alert" data-testid="sweep-problem">{{ problem }}</p>
      <div v-if="sheet" class="tools">
        <template v-if="sheet.frames.length"
          ><span>Frame</span
          ><SlideTo
            :model-value="frame ?? 1"
            :low="sheet.frames[0] ?? 1"
            :high="Math.max(sheet.frames.at(-1) ?? 1, (sheet.frames[0] ?? 1) + 1)"
            :step="1"
            label="Frame of all pictures"
            testid="sweep-frame"
            @update:model-value="(v) => (chosen = v)"
          /><span class="num frame">{{ frame ?? '' }}</span></template
        >
        <span>Sorted by</span><PickOne v-model="by" :items="sorts" label="Sorted by" testid="sweep-sort" />
        <TickBox v-model="down" words="largest first" testid="sweep-down" />
        <span>Seen from</span><PickOne v-model="from" :items="sides" label="Seen from" testid="sweep-side" />
        <template v-if="sheet.lanes.length"
          ><span>Read also</span
          ><PickOne v-model="lane" :items="lanes" label="A lane that is read too" testid="sweep-lane"
        /></template>
        <span class="sp" />
        <span>Show</span>
        <TextLine
          class="find"
          stays
          :model-value="query"
          placeholder="seed 2"
          label="Show those with these words"
          testid="sweep-filter"
          @input="(t) => (query = t)"
        />
      </div>
      <div v-if="sheet" class="both">
        <div class="sheet" data-testid="sheet">
          <article
            v-for="r in shown"
            :key="r.identity"
            class="tile"
            :class="{ chosen: picked.includes(r.identity) }"
            :data-testid="`tile-${r.identity}`"
            :data-name="label(r)"
          >
            <img
              v-if="frame !== null && r.frames.includes(frame)"
              :src="pictureOf(r)"
              :alt="`${label(r)}, frame ${frame}`"
              width="240"
              height="150"
            />
            <div v-else class="none muted">{{ stateWords(r) }}</div>
            <b>{{ label(r) }}</b>
            <span v-if="r.readings" class="num muted">{{ told(r) }}</span>
            <span class="acts"
              ><TickBox
                :model-value="picked.includes(r.identity)"
                words="choose"
                :testid="`pick-${r.identity}`"
                @update:model-value="pick(r.identity)"
              /><v-btn class="plain" :data-testid="`take-${r.identity}`" @click="take(r)"
                >Take into the study</v-btn
              ></span
            >
          </article>
          <p v-if="!shown.length" class="muted">Nothing has these words.</p>
        </div>
        <aside v-if="dots.length > 1" class="plot">
          <PickOne
            v-model="across"
            :items="numeric.map((p) => ({ id: p, name: short(p) }))"
            label="Parameter across"
            testid="plot-across"
          />
          <svg viewBox="0 0 220 160" role="img" :aria-label="`${reading} against ${short(across)}`" data-testid="plot">
            <line x1="38" y1="140" x2="210" y2="140" />
            <line x1="38" y1="10" x2="38" y2="140" />
            <circle v-for="d in dots" :key="d.id" :cx="d.x" :cy="d.y" r="4" :class="{ chosen: picked.includes(d.id) }">
              <title>{{ d.words }}</title>
            </circle>
            <text x="38" y="154">{{ shownNumber(ends.x[0], 4) }}</text>
            <text x="210" y="154" text-anchor="end">{{ shownNumber(ends.x[1], 4) }}</text>
            <text x="35" y="140" text-anchor="end">{{ shownNumber(ends.y[0], 4) }}</text>
            <text x="35" y="16" text-anchor="end">{{ shownNumber(ends.y[1], 4) }}</text>
          </svg>
          <span class="muted">{{ reading }}{{ unit(reading) && `,${unit(reading)}` }} against {{ short(across) }}</span>
        </aside>
      </div>
    </main>
    <v-snackbar v-model="took" timeout="8000"
      >{{ tookWords
      }}<template #actions
        ><v-btn color="warning" data-testid="to-desk-taken" @click="router.push(`/desk/${sheet?.study}`)"
          >Open the Desk</v-btn
        ></template
      ></v-snackbar
    >
  </div>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call } from '../api/client'
import type { components } from '../api/schema'
import PickOne from '../controls/PickOne.vue'
import SlideTo from '../controls/SlideTo.vue'
import TextLine from '../controls/TextLine.vue'
import TickBox from '../controls/TickBox.vue'
import { followAll } from '../lib/events'
import { afterwards, callOff } from '../lib/rest'
import { FRONT, keptSide, type Side } from '../lib/side'
import { shown as shownNumber } from '../lib/quantity'
import { isBusy, stateWords } from '../shelf/shelf'

type Sheet = components['schemas']['Sheet']
type Swept = components['schemas']['SweptRun']
const route = useRoute()
const router = useRouter()
document.title = 'Sweep · Errant Gust'
const sheet = ref<Sheet | null>(null)
const problem = ref('')
/** The frame that somebody chose; until then the last that all have. */
const chosen = ref<number | null>(null)
const frame = computed(() => chosen.value ?? sheet.value?.frame ?? null)
const by = ref('')
const down = ref(true)
const query = ref('')
const picked = ref<string[]>([])
/** From where all are seen: as the Desk was left, or from a side. */
const sideChosen = ref('')
const asOnDesk = computed(() => (sheet.value ? keptSide(sheet.value.study) : null))
const SIDES: Record<string, { name: string; side: Side }> = {
  front: { name: 'the front', side: FRONT },
  corner: { name: 'a corner', side: { azimuth: -55, height: 24 } },
  right: { name: 'the right', side: { azimuth: 0, height: 0 } },
  above: { name: 'above', side: { azimuth: -90, height: 90 } },
}
const sides = computed(() => [
  ...(asOnDesk.value ? [{ id: 'desk', name: 'where the Desk looks from' }] : []),
  ...Object.entries(SIDES).map(([id, { name }]) => ({ id, name })),
])
const from = computed({
  get: () => sideChosen.value || sides.value[0].id,
  set: (id) => (sideChosen.value = id),
})
const side = computed(() =>
  from.value === 'desk' && asOnDesk.value ? asOnDesk.value : (SIDES[from.value]?.side ?? FRONT),
)
const pictureOf = (r: Swept) =>
  `/api/sweeps/${sheet.value?.sweep}/picture/${r.identity}?frame=${frame.value}&n=${ready.value}` +
  `&azimuth=${side.value.azimuth}&height=${side.value.height}`
/** A lane whose mean where each flow is is read too. */
const lane = ref('')
const lanes = computed(() => [{ id: '', name: 'no lane' }, ...(sheet.value?.lanes ?? [])])
const unit = (name: string) => (sheet.value?.units[name] ? ` ${sheet.value.units[name]}` : '')

const short = (path: string) => path.split('.').at(-1)?.replace(/_/g, ' ') ?? ''
const plain = (v: unknown) => (typeof v === 'number' ? shownNumber(v) : Array.isArray(v) ? v.join(' ') : String(v))
const label = (r: Swept) =>
  r.name ||
  Object.entries(r.values)
    .map(([p, v]) => `${short(p)} ${plain(v)}`)
    .join(', ')
const told = (r: Swept) =>
  Object.entries(r.readings ?? {})
    .filter(([name]) => ['amount', 'top', 'fastest', reading.value].includes(name))
    .map(([name, v]) => `${name} ${shownNumber(v, 3)}${unit(name)}`)
    .join(' · ')
const sorts = computed(() => [
  { id: '', name: 'the order of the sweep' },
  ...(sheet.value?.readings ?? []).map((id) => ({ id, name: id })),
])
const reading = computed(() => by.value || (sheet.value?.readings[1] ?? ''))
const runs = computed(() => sheet.value?.runs ?? [])
const busy = computed(() => runs.value.some(isBusy))
const broken = computed(() => runs.value.filter((r) => ['failed', 'stopped'].includes(r.state)).length)
const ready = computed(() => runs.value.filter((r) => frame.value !== null && r.frames.includes(frame.value)).length)
const words = computed(() => {
  const done = runs.value.filter((r) => r.state === 'done').length
  const left = runs.value.map((r) => r.left).find((x) => x !== null && x !== undefined)
  const goes = busy.value && left ? `, ${Math.max(1, Math.round(left))} s left of this one` : ''
  return `${done} of ${runs.value.length} all there${goes}${broken.value ? `, ${broken.value} failed or stopped` : ''}`
})
const shown = computed(() => {
  const found = runs.value.filter((r) => label(r).toLowerCase().includes(query.value.trim().toLowerCase()))
  if (!by.value) return found
  const of = (r: Swept) => r.readings?.[by.value] ?? -Infinity
  return [...found].sort((a, b) => (down.value ? of(b) - of(a) : of(a) - of(b)))
})
const pick = (id: string) => {
  picked.value = picked.value.includes(id) ? picked.value.filter((x) => x !== id) : [...picked.value, id].slice(-9)
}

/** A reading against a parameter: what can be plotted are numbers. */
const numeric = computed(() => (sheet.value?.paths ?? []).filter((p) => typeof runs.value[0]?.values[p] === 'number'))
const across = ref('')
watch(numeric, (all) => {
  if (!all.includes(across.value)) across.value = all[0] ?? ''
})
const places = computed(() =>
  runs.value
    .filter((r) => r.readings && across.value)
    .map((r) => ({
      id: r.identity,
      at: Number(r.values[across.value]),
      value: r.readings![reading.value],
      words: `${label(r)}: ${told(r)}`,
    })),
)
const range = (all: number[]) => [Math.min(...all), Math.max(...all)] as const
const ends = computed(() => ({
  x: range(places.value.map((p) => p.at)),
  y: range(places.value.map((p) => p.value)),
}))
const dots = computed(() => {
  const on = (v: number, [a, b]: readonly [number, number], low: number, high: number) =>
    low + (b > a ? (v - a) / (b - a) : 0.5) * (high - low)
  return places.value.map((p) => ({ ...p, x: on(p.at, ends.value.x, 44, 206), y: on(p.value, ends.value.y, 136, 14) }))
})

let unfollow = () => {}
let loads = 0
async function load() {
  const mine = ++loads
  const asked = new URLSearchParams(chosen.value === null ? {} : { frame: String(chosen.value) })
  if (lane.value) asked.set('lanes', lane.value)
  try {
    const made = await call<Sheet>('GET', `/sweeps/${String(route.params.id)}?${asked}`)
    if (mine !== loads) return
    sheet.value = made
    problem.value = ''
  } catch (error) {
    problem.value = (error as Error).message
  }
}
async function act(what: 'stop' | 'again') {
  try {
    await call('POST', `/sweeps/${String(route.params.id)}/${what}`)
  } catch (error) {
    problem.value = (error as Error).message
  }
  await load()
}
const took = ref(false)
const tookWords = ref('')
async function take(r: Swept) {
  try {
    await call('POST', `/runs/${r.identity}/put-back`)
    tookWords.value = `${sheet.value?.study_name} now has ${label(r)}; undo takes it back`
    took.value = true
  } catch (error) {
    problem.value = (error as Error).message
  }
}
function compare() {
  const panes = picked.value.map((id) => `${id}:`).join(',')
  void router.push({ path: `/compare/${sheet.value?.study}`, query: { panes } })
}
let settled = 0
watch(lane, (id) => {
  by.value = id ? `mean ${id}` : ''
})
watch([chosen, lane], () => {
  callOff(settled)
  settled = afterwards(() => void load(), 120)
})
onMounted(() => {
  void load()
  unfollow = followAll(() => void load())
})
onBeforeUnmount(() => {
  unfollow()
  callOff(settled)
})
</script>

<style scoped>
.tools {
  display: flex;
  align-items: center;
  gap: 10px;
  font-size: 12px;
  margin-bottom: 12px;
}
.tools > .sp {
  flex: 1;
}
.frame {
  width: 34px;
}
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 18px;
  align-items: start;
}
.sheet {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(240px, 1fr));
  gap: 12px;
}
.tile {
  display: grid;
  gap: 2px;
  font-size: 12px;
  background: var(--card);
  border: 1px solid var(--line);
  padding: 6px;
}
.tile.chosen {
  border-color: var(--signal);
}
.tile img {
  display: block;
  width: 100%;
  height: auto;
}
.none {
  aspect-ratio: 1.6;
  display: grid;
  place-items: center;
  text-align: center;
  border: 1px dashed var(--line);
}
.acts {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.acts button {
  text-decoration: underline;
}
.plot {
  width: 240px;
  display: grid;
  gap: 6px;
  font-size: 12px;
}
.plot svg {
  width: 100%;
  background: var(--card);
  border: 1px solid var(--line);
}
.plot line {
  stroke: var(--muted);
}
.plot circle {
  fill: #2f5d8c;
}
.plot circle.chosen {
  fill: var(--signal);
}
.plot text {
  font-size: 9px;
  fill: currentColor;
}
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
