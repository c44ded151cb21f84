<template>
  <div class="page">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span>
      <router-link :to="`/desk/${key}`" data-testid="to-desk">{{ study?.document.name ?? key }}</router-link><span
        class="muted"
        >▸</span
      ><span>Hand over</span>
      <span class="sp" />
      <router-link :to="`/runs/${key}`">Runs</router-link>
      <router-link to="/handbook">Handbook</router-link>
    </header>
    <main>
      <p v-if="problem" class="bad" role="alert" data-testid="hand-problem">{{ problem }}</p>
      <p v-if="there && !there.offered.length" class="muted" data-testid="hand-empty">
        No run has a frame yet. <router-link :to="`/desk/${key}`">Run a flow on the Desk</router-link>: what its frames
        hold can then be handed over.
      </p>
      <div v-if="there?.offered.length" class="both">
        <section>
          <h2>What</h2>
          <v-table density="compact" class="rows">
            <thead>
              <tr>
                <th></th>
                <th>Run</th>
                <th>Result</th>
                <th class="right">Frames</th>
                <th>Format</th>
                <th>Channels</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="x in there.offered" :key="idOf(x)" :data-testid="`offer-${x.flow}-${x.quality}-${x.result}`">
                <td>
                  <TickBox
                    :model-value="!!chosen[idOf(x)]"
                    :label="`Hand over ${x.label} of ${x.flow}`"
                    :testid="`take-${x.flow}-${x.quality}-${x.result}`"
                    @update:model-value="(on) => choose(x, on)"
                  />
                </td>
                <td>
                  {{ x.name || x.flow }} <span class="muted">{{ x.quality }}</span>
                </td>
                <td>{{ x.label }}</td>
                <td class="right num">{{ x.first }} … {{ x.last }}</td>
                <td>
                  <PickOne
                    v-if="chosen[idOf(x)]"
                    v-model="chosen[idOf(x)].format"
                    :items="x.formats.map((id) => ({ id, name: id }))"
                    :label="`Format of ${x.label}`"
                    :testid="`format-${x.flow}-${x.quality}-${x.result}`"
                  /><span v-else class="muted">{{ x.formats[0] }}</span>
                </td>
                <td class="channels">
                  <template v-if="chosen[idOf(x)] && x.channels.length"
                    ><button
                      v-for="c in x.channels"
                      :key="c"
                      class="channel"
                      :aria-pressed="takes(x, c)"
                      :data-testid="`channel-${x.result}-${c}`"
                      @click="toggle(x, c)"
                    >
                      {{ c }}
                    </button></template
                  ><span v-else class="muted">{{ x.channels.join(', ') }}</span>
                </td>
              </tr>
            </tbody>
          </v-table>
        </section>
        <section class="how">
          <h2>How</h2>
          <div class="phrase">
            <span>Frames</span>
            <NumberField
              :value="first"
              label="First frame"
              integer
              testid="hand-first"
              @change="(v) => (o.first = v)"
            />
            <span>to</span>
            <NumberField :value="last" label="Last frame" integer testid="hand-last" @change="(v) => (o.last = v)" />
            <span>every</span>
            <NumberField
              :value="o.step"
              label="Every so manieth frame"
              :low="1"
              integer
              testid="hand-step"
              @change="(v) => (o.step = v)"
            />
          </div>
          <div class="phrase">
            <span>First is called</span>
            <NumberField
              :value="o.number ?? first"
              label="Number of the first frame"
              integer
              testid="hand-number"
              @change="(v) => (o.number = v)"
            />
            <span>with</span>
            <NumberField
              :value="o.padding"
              label="Digits"
              :low="1"
              :high="9"
              integer
              testid="hand-padding"
              @change="(v) => (o.padding = v)"
            />
            <span>digits</span>
          </div>
          <div class="phrase">
            <span>Names</span>
            <TextLine
              class="wide"
              :model-value="o.pattern"
              label="Pattern of names"
              testid="hand-pattern"
              @update:model-value="(t) => (o.pattern = t)"
            />
          </div>
          <div class="phrase">
            <span>Up is</span><PickOne v-model="o.up" :items="UPS" label="Up axis" testid="hand-up" /><span
              >lengths in</span
            ><PickOne v-model="o.unit" :items="UNITS" label="Unit of lengths" testid="hand-unit" />
          </div>
          <div class="phrase">
            <span>Velocities a</span><PickOne v-model="o.per" :items="PERS" label="Velocities a" testid="hand-per" />
            <span>from</span
            ><PickOne v-model="o.velocity" :items="WAYS" label="Velocities from" testid="hand-velocity" />
          </div>
          <div v-if="items.some((i) => i.format === 'vdb')" class="phrase">
            <span>OpenVDB by</span
            ><PickOne v-model="o.compression" :items="SQUEEZES" label="Compression" testid="hand-compression" />
            <TickBox v-model="o.half" words="half floats" testid="hand-half" />
          </div>
          <h2>Where</h2>
          <div class="phrase">
            <PickOne
              v-if="there.roots.length > 1"
              v-model="root"
              :items="there.roots.map((id) => ({ id, name: id }))"
              label="Folder for deliveries"
              testid="hand-root"
            /><span v-else class="muted path">{{ root }}/</span>
            <TextLine
              class="wide"
              :model-value="name"
              label="Name of the new folder"
              testid="hand-name"
              @update:model-value="(t) => (name = t)"
            />
          </div>
          <div v-if="plan" class="plan" data-testid="hand-plan">
            <b class="num">{{ plan.count }} files, about {{ bytes(plan.bytes) }} before compression</b>
            <span class="muted num">{{ bytes(plan.free) }} are free</span>
            <ul class="num names">
              <li v-for="f in named" :key="f">{{ f }}</li>
            </ul>
            <span v-for="(words, format) in plan.readers" :key="format" class="muted">
              {{ format }} is read by {{ words }}
            </span>
          </div>
          <p v-if="refused || plan?.problem" class="bad" role="status" data-testid="hand-refused">
            {{ refused || plan?.problem }}
          </p>
          <v-btn class="go" :disabled="!plan || !!plan.problem || !!refused" data-testid="hand-write" @click="write"
            >Write</v-btn
          >
        </section>
      </div>
      <section v-if="there && (there.going.length || there.made.length)">
        <h2>Deliveries</h2>
        <v-table density="compact" class="rows">
          <tbody>
            <tr v-for="g in there.going.filter((x) => x.state !== 'done')" :key="g.id" :data-testid="`going-${g.id}`">
              <td class="path">{{ g.to }}</td>
              <td class="state">
                <v-progress-linear
                  v-if="g.state === 'running'"
                  :model-value="(100 * g.done) / g.total"
                  height="4"
                  color="success"
                  :aria-label="`${g.done} of ${g.total} files`"
                /><span :class="{ bad: g.state === 'failed' }">{{ stateOf(g) }}</span>
              </td>
              <td class="right">
                <v-btn
                  v-if="['running', 'waiting'].includes(g.state)"
                  size="small"
                  variant="outlined"
                  data-testid="hand-stop"
                  @click="stop(g.id)"
                  >Stop</v-btn
                >
              </td>
            </tr>
            <tr v-for="m in there.made" :key="m.to" :data-testid="`made-${m.to.split('/').at(-1)}`">
              <td class="path">{{ m.to }}</td>
              <td>
                <span class="num">{{ m.files }} files, {{ bytes(m.bytes) }}</span
                ><span class="muted"> · {{ m.words }}</span>
              </td>
              <td class="right">
                <span v-if="proofs[m.to]" :class="{ bad: proofs[m.to].length }" data-testid="hand-proof">{{
                  proofWords(proofs[m.to])
                }}</span>
                <v-btn
                  size="small"
                  variant="outlined"
                  :disabled="proving === m.to"
                  data-testid="hand-prove"
                  @click="prove(m.to)"
                  >{{ proving === m.to ? 'Verifying …' : 'Verify' }}</v-btn
                >
              </td>
            </tr>
          </tbody>
        </v-table>
      </section>
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call } from '../api/client'
import type { components } from '../api/schema'
import PickOne from '../controls/PickOne.vue'
import TextLine from '../controls/TextLine.vue'
import TickBox from '../controls/TickBox.vue'
import NumberField from '../inspector/NumberField.vue'
import { followAll } from '../lib/events'
import { bytes } from '../lib/quantity'

type HandOver = components['schemas']['HandOver']
type Offered = components['schemas']['Offered']
type Plan = components['schemas']['Plan']
type Going = components['schemas']['GoingOut']
type Fault = components['schemas']['FaultOut']
type Options = components['schemas']['OptionsIn']
interface Chosen {
  format: string
  /** Those that are wanted; all if none is named. */
  channels: string[]
}
const UPS: { id: NonNullable<Options['up']>; name: string }[] = [
  { id: 'Z', name: 'Z' },
  { id: 'Y', name: 'Y' },
]
const UNITS: { id: NonNullable<Options['unit']>; name: string }[] = [
  { id: 'm', name: 'metres' },
  { id: 'dm', name: 'decimetres' },
  { id: 'cm', name: 'centimetres' },
  { id: 'mm', name: 'millimetres' },
]
const PERS: { id: NonNullable<Options['per']>; name: string }[] = [
  { id: 'second', name: 'second' },
  { id: 'frame', name: 'frame' },
]
const WAYS: { id: NonNullable<Options['velocity']>; name: string }[] = [
  { id: 'motion', name: 'the motion' },
  { id: 'positions', name: 'positions a frame apart' },
]
const SQUEEZES: { id: NonNullable<Options['compression']>; name: string }[] = [
  { id: 'blosc', name: 'Blosc' },
  { id: 'zip', name: 'zip' },
  { id: 'none', name: 'no compression' },
]

const route = useRoute()
const key = computed(() => String(route.params.key))
const study = ref<components['schemas']['StudyOut'] | null>(null)
const there = ref<HandOver | null>(null)
const problem = ref('')
const chosen = reactive<Record<string, Chosen>>({})
const o = reactive({
  first: null as number | null,
  last: null as number | null,
  step: 1,
  number: null as number | null,
  pattern: '{flow}/{flow}_{result}.{frame}',
  padding: 4,
  up: 'Z' as NonNullable<Options['up']>,
  unit: 'm' as NonNullable<Options['unit']>,
  per: 'second' as NonNullable<Options['per']>,
  velocity: 'motion' as NonNullable<Options['velocity']>,
  half: false,
  compression: 'blosc' as NonNullable<Options['compression']>,
})
const root = ref('')
const name = ref('')
document.title = 'Hand over · Errant Gust'

const idOf = (x: Offered) => `${x.run}.${x.result}`
const picked = computed(() => (there.value?.offered ?? []).filter((x) => chosen[idOf(x)]))
const first = computed(() => o.first ?? Math.max(...picked.value.map((x) => x.first), 1))
const last = computed(() => o.last ?? Math.min(...picked.value.map((x) => x.last), 1_000_000))
const items = computed(() =>
  picked.value.map((x) => ({ run: x.run, result: x.result, ...chosen[idOf(x)], channels: chosen[idOf(x)].channels })),
)
function choose(x: Offered, on: boolean) {
  if (on) chosen[idOf(x)] = { format: x.formats[0], channels: [] }
  else delete chosen[idOf(x)]
}
const takes = (x: Offered, c: string) => {
  const some = chosen[idOf(x)].channels
  return !some.length || some.includes(c)
}
function toggle(x: Offered, c: string) {
  const now = x.channels.filter((k) => (k === c ? !takes(x, k) : takes(x, k)))
  chosen[idOf(x)].channels = now.length === x.channels.length ? [] : now
}

/** A name that no delivery has. */
function fresh(found: HandOver) {
  const taken = [...found.made, ...found.going].map((m) => m.to)
  let n = 1
  while (taken.includes(`${root.value}/${key.value}_v${n}`)) n++
  return `${key.value}_v${n}`
}
async function load() {
  try {
    const found = await call<HandOver>('GET', `/hand-over?study=${encodeURIComponent(key.value)}`)
    if (!there.value) {
      root.value = found.roots[0] ?? ''
      name.value = `${key.value}_v1`
      for (let n = 2; found.made.some((m) => m.to === `${root.value}/${name.value}`); n++)
        name.value = `${key.value}_v${n}`
      const one = found.offered.find((x) => x.state === 'done') ?? found.offered[0]
      if (one) choose(one, true)
    }
    there.value = found
    problem.value = ''
  } catch (error) {
    problem.value = (error as Error).message
  }
}

const plan = ref<Plan | null>(null)
const refused = ref('')
const body = computed(() => ({
  items: items.value,
  options: { ...o, first: first.value, last: last.value },
  root: root.value,
  name: name.value,
}))
let waits = 0
let asked = 0
async function look() {
  const mine = ++asked
  if (!items.value.length) {
    plan.value = null
    refused.value = 'Choose something to hand over'
    return
  }
  try {
    const made = await call<Plan>('POST', '/hand-over/plan', body.value)
    if (mine !== asked) return
    plan.value = made
    refused.value = ''
  } catch (error) {
    if (mine !== asked) return
    plan.value = null
    refused.value = (error as Error).message
  }
}
watch(body, () => {
  clearTimeout(waits)
  waits = window.setTimeout(() => void look(), 150)
})
/** The first names and the last. */
const named = computed(() => {
  const all = plan.value?.files ?? []
  return all.length > 7 ? [...all.slice(0, 4), '…', ...all.slice(-2)] : all
})
async function write() {
  try {
    await call('POST', '/hand-over', body.value)
  } catch (error) {
    refused.value = (error as Error).message
    return
  }
  await load()
  if (there.value) name.value = fresh(there.value)
}
async function stop(id: string) {
  await call('POST', `/hand-over/${id}/stop`)
  await load()
}
const stateOf = (g: Going) => {
  if (g.state !== 'running') return g.message ? `${g.state}: ${g.message}` : g.state
  return `${g.done} of ${g.total}${g.left === null ? '' : `, ${Math.max(1, Math.round(g.left))} s left`}`
}
const proofs = reactive<Record<string, Fault[]>>({})
const proving = ref('')
async function prove(to: string) {
  proving.value = to
  delete proofs[to]
  try {
    proofs[to] = await call<Fault[]>('POST', '/hand-over/prove', { to })
  } catch (error) {
    problem.value = (error as Error).message
  }
  proving.value = ''
}
const proofWords = (faults: Fault[]) =>
  faults.length
    ? `${faults[0].name}: ${faults[0].what}${faults.length > 1 ? `, and ${faults.length - 1} more` : ''}`
    : 'all as delivered'
let unfollow = () => {}
onMounted(async () => {
  await load()
  unfollow = followAll(() => void load())
  try {
    study.value = await call('GET', `/studies/${key.value}`)
  } catch (error) {
    problem.value = (error as Error).message
  }
})
onBeforeUnmount(() => {
  unfollow()
  clearTimeout(waits)
})
</script>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 420px;
  gap: 22px;
  align-items: start;
}
h2 {
  font-size: 15px;
  margin: 4px 0 8px;
}
.rows {
  background: var(--card);
  border: 1px solid var(--line);
}
.rows td,
.rows th {
  padding: 4px 8px !important;
  font-size: 12px;
}
.phrase {
  display: flex;
  align-items: center;
  gap: 8px;
  margin-bottom: 8px;
  font-size: 13px;
}
.wide.v-input {
  flex: 1;
}
.channels {
  white-space: normal;
}
.channel {
  border: 1px solid var(--line);
  border-radius: 9px;
  padding: 0 7px;
  margin: 1px 3px 1px 0;
  font-size: 11px;
}
.channel[aria-pressed='false'] {
  text-decoration: line-through;
  opacity: 0.55;
}
.plan {
  display: grid;
  gap: 2px;
  font-size: 12px;
  margin-bottom: 10px;
}
.names {
  margin: 4px 0;
  padding: 0;
  list-style: none;
}
.path {
  overflow-wrap: anywhere;
}
.right {
  text-align: right !important;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.right > span {
  margin-right: 10px;
}
section {
  margin-bottom: 18px;
}
</style>
