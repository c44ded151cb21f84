<template>
  <div v-if="failed" class="failed">
    <h2>{{ failed }}</h2>
    <router-link to="/">Back to the studies</router-link>
  </div>
  <div v-else-if="doc" class="compare">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span><router-link :to="`/desk/${key}`" data-testid="to-desk">{{ doc.name }}</router-link
      ><span class="muted">▸</span><span>Compare</span><span class="sp" />
      <TickBox v-if="canDiffer" v-model="differ" words="difference B − A" testid="compare-difference" />
      <v-btn
        v-if="panes.length < MOST && runs.length"
        variant="outlined"
        :prepend-icon="mdiPlus"
        data-testid="compare-add"
        @click="add"
        >Picture</v-btn
      >
      <router-link to="/handbook">Handbook</router-link>
    </header>
    <main class="panes" :style="{ gridTemplateColumns: `repeat(${columns}, 1fr)` }">
      <p v-if="!panes.length" class="empty" data-testid="compare-empty">
        No run of this study has a frame yet. <router-link :to="`/desk/${key}`">Run a flow on the Desk</router-link>,
        then compare its channels, or two of its versions.
      </p>
      <ComparePane
        v-for="(p, i) in panes"
        :key="i"
        :title="`Picture ${i + 1}`"
        :testid="`pane-${i}`"
        :doc="doc"
        :scene="scene"
        :frame="frames[i] ?? null"
        :look="looks[i]"
        :said="said[i] ?? ''"
        :box="box"
        :camera="camera"
        :framed="framed"
        @turned="turned"
      >
        <b>{{ String.fromCharCode(65 + i) }}</b>
        <PickOne
          :model-value="p.run"
          :items="runs.map((r) => ({ id: r.identity, name: nameOf(r, runs, doc!) }))"
          :label="`Run of picture ${i + 1}`"
          :testid="`pane-run-${i}`"
          @update:model-value="(run) => set(i, { run })"
        />
        <PickOne
          :model-value="p.channel"
          :items="channels(i)"
          :label="`Channel of picture ${i + 1}`"
          :testid="`pane-channel-${i}`"
          @update:model-value="(channel) => set(i, { channel })"
        />
        <span class="sp" /><v-btn
          v-if="panes.length > 1"
          v-tip="'Remove this picture'"
          class="plain"
          :aria-label="`Remove picture ${i + 1}`"
          @click="drop(i)"
        >
          <v-icon :icon="mdiClose" size="16" />
        </v-btn>
      </ComparePane>
      <ComparePane
        v-if="differ && canDiffer"
        title="Difference"
        testid="pane-difference"
        :doc="doc"
        :scene="scene"
        :frame="apart"
        :look="apartLook"
        :said="apartSaid"
        :box="box"
        :camera="camera"
        :framed="framed"
        @turned="turned"
      >
        <b>B − A</b
        ><template v-if="apart"
          ><span class="muted">below</span><i class="strip" :style="{ background: gradientCss('diverging') }" /><span
            class="muted"
            >above</span
          ><span class="num">± {{ shown(apart.high, 3) }} {{ laneUnits[0] }}</span></template
        >
      </ComparePane>
    </main>
    <footer>
      <div class="row">
        <v-btn
          v-tip="'Play (Space)'"
          class="plain play"
          :aria-label="playing ? 'Pause' : 'Play'"
          data-testid="compare-play"
          @click="play()"
        >
          <v-icon :icon="playing ? mdiPause : mdiPlay" size="20" />
        </v-btn>
        <span class="num" data-testid="compare-frame">{{ String(frame).padStart(3, '0') }}</span>
        <SlideTo
          v-model="frame"
          class="scrub"
          :low="common[0] ?? 1"
          :high="common.at(-1) ?? 1"
          :step="1"
          label="Frame"
          testid="compare-scrub"
        />
        <span v-tip="'Frames that every picture has'" class="muted" tabindex="0">{{ common.length }} frames</span>
        <span class="sp" />
        <template v-if="mapped">
          <PickOne v-model="mapping.map" :items="MAPS" label="Colours" testid="compare-map" />
          <NumberField
            :value="low"
            quiet
            label="Range from"
            testid="compare-low"
            @change="(v) => Object.assign(mapping, { low: v, high })"
          />
          <i class="strip wide" :style="{ background: gradientCss(mapping.map) }" />
          <NumberField
            :value="high"
            quiet
            label="Range to"
            testid="compare-high"
            @change="(v) => Object.assign(mapping, { low, high: v })"
          /><span
            v-if="mixed"
            v-tip="`One range for ${mixed}: what has small numbers stays dark. ${MIXED_HELP}`"
            class="mixed"
            data-testid="compare-mixed"
            >{{ mixed }}</span
          ><span v-else class="muted">{{ units }}</span>
          <v-btn class="plain link" data-testid="compare-fit" @click="fit">
            {{ mapping.low === null && mapping.high === null ? 'fitted · pin' : 'pinned · fit' }}
          </v-btn>
          <span class="muted">thickness</span
          ><NumberField
            :value="mapping.absorb"
            :low="0"
            open-below
            unit="1/m"
            label="Share of the light taken a metre"
            testid="compare-absorb"
            @change="(v) => (mapping.absorb = v)"
          />
        </template>
      </div>
      <NumbersTable v-if="panes.length" :rows="rows" :difference="differ && canDiffer ? numbers : null" />
    </footer>
  </div>
</template>

<script setup lang="ts">
import { mdiClose, mdiPause, mdiPlay, mdiPlus } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, reactive, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { arrays, call, newestArrays, type Packed } from '../api/client'
import type {
  DrawnHead,
  FlowLook,
  Numbers,
  PointsDifference,
  RunOut,
  StudyDoc,
  StudyOut,
  Vec3,
  VolumeDifference,
} from '../api/model'
import ComparePane from '../compare/ComparePane.vue'
import NumbersTable from '../compare/NumbersTable.vue'
import { first, MOST, nameOf, read, readView, written, writtenView, type Mapped, type Pane } from '../compare/panes'
import { channelsOf, channelWords, FIRST, SMOKE, unitOf } from '../forms/channels'
import { drawnMesh, loadDifference, loadFrame, type Frame } from '../forms/frames'
import PickOne from '../controls/PickOne.vue'
import SlideTo from '../controls/SlideTo.vue'
import TickBox from '../controls/TickBox.vue'
import NumberField from '../inspector/NumberField.vue'
import { gradientCss } from '../lib/colour'
import { followRuns } from '../lib/events'
import { shown } from '../lib/quantity'
import { afterwards, callOff, lasting } from '../lib/rest'
import { useCatalogue } from '../stores/catalogue'
import type { SceneFacts } from '../stores/look'

const listed = useCatalogue()
const route = useRoute()
const router = useRouter()
const key = computed(() => String(route.params.key))
const doc = shallowRef<StudyDoc | null>(null)
const runs = ref<RunOut[]>([])
const failed = ref('')
const panes = ref<Pane[]>([])
const scene = shallowRef<Packed<SceneFacts> | null>(null)
const camera = shallowRef<{ position: Vec3; target: Vec3; parallel: boolean } | null>(null)
const framed = ref(true)
function turned(view: { position: Vec3; target: Vec3; parallel: boolean }, byItself: boolean) {
  camera.value = view
  framed.value = byItself
}
const frame = ref(1)
const playing = ref(false)
const mapping = reactive<Mapped>({ map: 'sequential', low: null, high: null, absorb: 8 })
const differ = ref(true)
const frames = shallowRef<(Frame | null)[]>([])
const said = ref<string[]>([])
const counted = shallowRef<(Numbers | null)[]>([])
const apart = shallowRef<Frame | null>(null)
const apartSaid = ref('')
const numbers = shallowRef<VolumeDifference | PointsDifference | null>(null)

const MAPS = [
  { id: 'sequential', name: 'sea to sun' },
  { id: 'heat', name: 'black body' },
  { id: 'diverging', name: 'below and above' },
] satisfies { id: Mapped['map']; name: string }[]
const runOf = (p: Pane) => runs.value.find((r) => r.identity === p.run)
const MIXED_HELP = 'Take away what has another unit, or pin a range.'
const laneOf = (p: Pane) => doc.value?.flows.find((f) => f.id === runOf(p)?.flow)
const formOfKind = (kind: string) => listed.mainOf(kind)?.form
const formOf = (p: Pane) => listed.mainOf(runOf(p)?.kind)?.form
const isVolume = (p: Pane) => formOf(p) === 'volume'
/** Whether a picture takes part in the common mapping: smoke looks as the study says. */
const isMapped = (p: Pane) => p.channel !== SMOKE
const mapped = computed(() => panes.value.some(isMapped))
const units = computed(() => frames.value.find((f, i) => f && panes.value[i] && isMapped(panes.value[i]))?.unit ?? '')
const canDiffer = computed(() => panes.value.length >= 2 && formOf(panes.value[0]) === formOf(panes.value[1]))
const mixed = computed(() => {
  const all = [
    ...new Set(
      laneUnits.value.filter(
        (u, i) => u !== null && panes.value[i] && isMapped(panes.value[i]) && isVolume(panes.value[i]),
      ),
    ),
  ]
  return all.length > 1 ? all.map((u) => u || 'no unit').join(' and ') : ''
})
/** Two quantities may be looked at side by side, but not subtracted. */
const laneUnits = computed(() =>
  panes.value.map((p) =>
    unitOf(
      p.channel,
      doc.value?.flows.find((f) => f.id === runOf(p)?.flow),
    ),
  ),
)
const unlike = computed(() => {
  const [a, b] = laneUnits.value
  return canDiffer.value && isVolume(panes.value[0]) && a !== null && b !== null && a !== b
    ? `${a || 'no unit'} and ${b || 'no unit'} cannot be subtracted: choose channels of one unit for A and B`
    : ''
})
const columns = computed(() => {
  const n = Math.max(1, panes.value.length + (differ.value && canDiffer.value ? 1 : 0))
  return n <= 3 ? n : Math.ceil(Math.sqrt(n))
})
const common = computed(() => {
  const all = panes.value.map((p) => new Set(runOf(p)?.frames ?? []))
  const last = doc.value?.clock.end ?? Infinity // a run may hold frames from when the clock was longer
  return all.length ? [...all[0]].filter((n) => n <= last && all.every((s) => s.has(n))).sort((a, b) => a - b) : []
})
const ends = computed(() => {
  const seen = frames.value.filter((f, i): f is Frame => !!f && !!panes.value[i] && isMapped(panes.value[i]))
  return [Math.min(0, ...seen.map((f) => f.low)), Math.max(1e-9, ...seen.map((f) => f.high))] as const
})
const low = computed(() => mapping.low ?? ends.value[0])
const high = computed(() => mapping.high ?? ends.value[1])
const looks = computed<FlowLook[]>(() =>
  panes.value.map((p) => {
    const own = {
      ...listed.plainLook(runOf(p)?.kind),
      ...doc.value?.looks[runOf(p)?.flow ?? ''],
      shown: true,
      colour: p.channel,
    }
    const mine = {
      map: mapping.map,
      low: low.value,
      high: high.value,
      absorb: mapping.absorb,
      paint: 'channel' as const,
    }
    return isMapped(p) ? { ...own, ...mine } : own
  }),
)
const apartLook = computed<FlowLook>(() => ({
  ...listed.everyLook,
  colour: 'difference',
  map: 'diverging',
  absorb: mapping.absorb,
  low: apart.value ? -apart.value.high : -1,
  high: apart.value?.high ?? 1,
}))
const box = computed(() => {
  const f = scene.value?.facts
  const boxes = f?.regions.length ? f.regions : f?.shapes.filter((s) => s.bounded)
  if (!boxes?.length) return null
  const pick = (g: (...v: number[]) => number, which: 'lower' | 'upper') =>
    [0, 1, 2].map((i) => g(...boxes.map((b) => b[which][i]))) as Vec3
  return { lower: pick(Math.min, 'lower'), upper: pick(Math.max, 'upper') }
})
const channels = (i: number) => channelsOf(frames.value[i]?.names, formOf(panes.value[i]), panes.value[i].channel)
const rows = computed(() =>
  panes.value.map((p, i) => ({
    name: `${laneOf(p)?.name ?? ''}, ${runOf(p)?.quality ?? ''}: ${channelWords(p.channel)}`,
    unit: (isVolume(p) ? laneUnits.value[i] : frames.value[i]?.unit) ?? '',
    counted: formOf(p) === 'mesh' ? 'vertices' : (listed.kind(runOf(p)?.kind)?.unit ?? ''),
    found: counted.value[i] ?? null,
  })),
)

function keep(next: Pane[]) {
  panes.value = next
  keepAddress()
}
/** The address keeps what is seen, so that it can be sent: pictures, frame, mapping and camera. */
let addressed = 0
function keepAddress() {
  callOff(addressed)
  addressed = afterwards(() => {
    if (playing.value) return keepAddress()
    if (!panes.value.length) return // not loaded yet: an address that is asked for must not be lost
    void router.replace({
      query: {
        panes: written(panes.value),
        ...writtenView({ frame: frame.value, mapping, camera: framed.value ? null : camera.value }),
      },
    })
  }, 300)
}
function set(i: number, change: Partial<Pane>) {
  const next = panes.value.map((p, k) => (k === i ? { ...p, ...change } : p))
  if (change.run && formOf(next[i]) !== formOf(panes.value[i]))
    next[i].channel = FIRST[formOf(next[i]) ?? 'points'] ?? ''
  keep(next)
}
function add() {
  const last = panes.value.at(-1) ?? { run: runs.value[0].identity, channel: '' }
  keep([...panes.value, { ...last }])
}
function drop(i: number) {
  keep(panes.value.filter((_, k) => k !== i))
}
function fit() {
  if (mapping.low === null && mapping.high === null) Object.assign(mapping, { low: low.value, high: high.value })
  else Object.assign(mapping, { low: null, high: null })
}

/** With the surface that the lane draws from the frame, by the study as it stands. */
async function withSurface(f: Frame, p: Pane, look: FlowLook): Promise<Frame> {
  const run = runOf(p)
  const lane = laneOf(p)
  const drawn = lane?.steps.some((s) => s.on && listed.step(s.op, lane)?.kind === 'drawn')
  if (!run || !doc.value || !drawn || look.draw === 'points' || !listed.formsOf(run.kind).includes('mesh')) return f
  const looks = { ...doc.value.looks, [run.flow]: { ...doc.value.looks[run.flow], colour: look.colour } }
  const mesh = drawnMesh(
    await arrays<DrawnHead>(`/runs/${p.run}/frames/${f.frame}/drawn`, {
      study: key.value,
      document: { ...doc.value, looks },
      have: [],
    }),
  )
  return mesh ? { ...f, parts: [...f.parts, mesh] } : f
}

let serial = 0
/** All pictures of a frame are shown together, when the last of them has come. */
async function refresh() {
  const mine = ++serial
  const list = panes.value
  const n = frame.value
  const absorb = mapping.absorb
  const got = await Promise.all(
    list.map(async (p): Promise<[Frame | null, Numbers | null, string]> => {
      if (!runOf(p)?.frames.includes(n)) return [null, null, `frame ${n} is not there yet`]
      try {
        const results = listed.resultsOf(runOf(p)?.kind)
        const look = {
          ...looks.value[list.indexOf(p)],
          colour: p.channel,
          absorb: isMapped(p) ? 12 : (looks.value[list.indexOf(p)]?.absorb ?? absorb),
        }
        const counted = encodeURIComponent(p.channel === SMOKE ? '' : p.channel)
        const counting = `/runs/${p.run}/frames/${n}/${results[0].name}/numbers?channel=${counted}`
        return await Promise.all([
          loadFrame(p.run, n, results, look).then((f) => withSurface(f, p, look)),
          call<Numbers>('GET', counting),
          Promise.resolve(''),
        ])
      } catch (error) {
        return [null, null, (error as Error).message]
      }
    }),
  )
  let d: Awaited<ReturnType<typeof loadDifference>> | null = null
  let why = ''
  if (unlike.value) why = unlike.value
  else if (differ.value && canDiffer.value && got[0][0] && got[1][0]) {
    try {
      d = await loadDifference(list[0].run, list[1].run, n, list[0].channel, list[1].channel)
    } catch (error) {
      why = (error as Error).message
    }
  }
  if (mine !== serial) return
  frames.value = got.map((g) => g[0])
  counted.value = got.map((g) => g[1])
  said.value = got.map((g) => g[2])
  apart.value = d?.frame ?? null
  numbers.value = d?.numbers ?? null
  apartSaid.value = why || (d && !d.frame ? 'Points are compared in numbers only' : '')
}
watch([frame, camera, mapping], keepAddress, { deep: true })
watch([panes, frame, differ, () => runs.value.map((r) => r.frames.length).join()], () => void refresh())
watch(runs, (list) => {
  if (!panes.value.length && doc.value) {
    const found = first(list, doc.value, formOfKind)
    if (found.length) keep(found)
  }
})
/** A frame has been chosen: the one that runs begin with shows little. */
let seen = false
const asked = { ...readView(route.query), panes: route.query.panes }
Object.assign(mapping, asked.mapping)
if (asked.camera) {
  camera.value = asked.camera
  framed.value = false
}
watch(common, (list) => {
  if (list.length && (!seen || !list.includes(frame.value))) {
    frame.value =
      !seen && asked.frame && list.includes(asked.frame) ? asked.frame : list[Math.floor(0.55 * (list.length - 1))]
    seen = true
  }
})

let timer = 0
const moving = lasting()
function play(on = !playing.value) {
  playing.value = on
  moving(on)
  clearInterval(timer)
  if (!on) return
  timer = window.setInterval(
    () => {
      // the pictures set the pace
      if (!frames.value.every((f, i) => !f || f.frame === frame.value || said.value[i])) return
      const list = common.value
      if (list.length) frame.value = list[(list.indexOf(frame.value) + 1) % list.length]
    },
    1000 / (doc.value?.clock.fps ?? 24),
  )
}
function keys(event: KeyboardEvent) {
  if ((event.target as HTMLElement).matches('input:not([type=range]), select')) return
  if (event.key === ' ') {
    event.preventDefault()
    play()
  }
  const list = common.value
  const at = list.indexOf(frame.value)
  if (event.key === '.' && at + 1 < list.length) frame.value = list[at + 1]
  if (event.key === ',' && at > 0) frame.value = list[at - 1]
  if (event.key === 'Escape') void router.push(`/desk/${key.value}`)
}
let unfollow = () => {}
onMounted(async () => {
  window.addEventListener('keydown', keys)
  try {
    await listed.load()
    doc.value = (await call<StudyOut>('GET', `/studies/${key.value}`)).document
    runs.value = await call<RunOut[]>('GET', `/runs?study=${encodeURIComponent(key.value)}`)
    document.title = `${doc.value.name}, compared · Errant Gust`
    const wanted = read(asked.panes, runs.value).map((p) => ({
      ...p,
      channel: p.channel || (FIRST[formOf(p) ?? 'points'] ?? ''),
    }))
    keep(wanted.length ? wanted : first(runs.value, doc.value, formOfKind))
    unfollow = followRuns(key.value, (told) => (runs.value = told))
    scene.value = await newestArrays<SceneFacts>('shapes', '/look/shapes', {
      study: key.value,
      document: doc.value,
      time: 0,
    })
  } catch (error) {
    failed.value = (error as Error).message
  }
})
onBeforeUnmount(() => {
  window.removeEventListener('keydown', keys)
  play(false)
  callOff(addressed)
  unfollow()
})
</script>

<style scoped>
.compare {
  height: 100vh;
  display: grid;
  grid-template-rows: 44px 1fr auto;
  background: rgb(var(--v-theme-background));
  min-height: 0;
}
.bar {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 0 14px;
  border-bottom: 1px solid var(--line);
}
.bar a {
  color: inherit;
  text-decoration: none;
}
.bar a:hover {
  text-decoration: underline;
}
.sp {
  flex: 1;
}
.panes {
  display: grid;
  grid-auto-rows: 1fr;
  min-height: 0;
  overflow: hidden;
}
.empty {
  padding: 60px;
}
.empty a {
  color: inherit;
}
select {
  border: 1px solid var(--line);
  border-radius: 3px;
  background: var(--card);
  padding: 1px 6px;
  color: inherit;
  min-width: 0;
  max-width: 210px;
  text-overflow: ellipsis;
}
.mixed {
  color: rgb(var(--v-theme-warning));
}
.strip {
  width: 60px;
  height: 8px;
  display: inline-block;
}
.strip.wide {
  width: 120px;
}
footer {
  padding: 4px 14px 8px;
  display: grid;
  gap: 4px;
}
.row {
  display: flex;
  align-items: center;
  gap: 10px;
  height: 32px;
}
.row :deep(.nf) {
  width: 74px;
}
.row :deep(.nf:last-child) {
  width: 104px;
}
.scrub {
  width: 190px;
  accent-color: var(--signal);
}
.link:hover {
  text-decoration: underline;
}
.failed {
  padding: 60px;
}
</style>
