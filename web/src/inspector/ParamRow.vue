<template>
  <div class="param" :class="{ pick: pickable }" :data-testid="`param-${spec.name}`">
    <button v-if="pickable" class="pickme" :data-testid="`pick-${spec.name}`" @click="linkTo(path!, spec.label)">
      {{ spec.label }}
    </button>
    <label v-else :title="help">{{ spec.label }}</label>
    <div class="v" :class="{ moment: spec.moment && !special }">
      <template v-if="special === 'keys'">
        <div class="keys">
          <div v-for="(k, i) in (raw as Keys).keys" :key="i" class="key">
            <NumberField
              :value="k[0]"
              unit="s"
              :label="`${spec.label}, time of key ${i + 1}`"
              @change="(t) => setKey(i, 0, t)"
            />
            <NumberField
              v-if="typeof k[1] === 'number'"
              :value="k[1]"
              :unit="spec.unit"
              :label="`${spec.label}, key ${i + 1}`"
              :low="spec.range[0]"
              :high="spec.range[1]"
              @change="(v) => setKey(i, 1, v)"
            />
            <template v-else
              ><NumberField
                v-for="a in 3"
                :key="a"
                :value="k[1][a - 1]"
                :unit="unit"
                :quiet="a < 3"
                :label="`${spec.label} ${'xyz'[a - 1]}, key ${i + 1}`"
                @change="(v) => setKeyAxis(i, a - 1, v)"
            /></template>
            <button aria-label="Remove this key" @click="dropKey(i)">×</button>
          </div>
          <CurveEditor
            v-if="scalarKeys"
            :points="scalarKeys"
            :x="[0, seconds]"
            :range="keyRange"
            :kind="(raw as Keys).between ?? 'smooth'"
            :held="false"
            :now="runs.time"
            :label="`${spec.label} over time`"
            @change="setKeys"
          />
          <select
            :value="(raw as Keys).between ?? 'smooth'"
            :aria-label="`${spec.label}, between keys`"
            @change="set({ ...(raw as Keys), between: ($event.target as HTMLSelectElement).value as Keys['between'] })"
          >
            <option>smooth</option>
            <option>linear</option>
            <option>hold</option>
          </select>
          <button class="link" @click="addKey">+ key at {{ shown(runs.time, 3) }} s</button>
        </div>
      </template>
      <template v-else-if="special === 'link'">
        <span class="chip num" :title="(raw as Link).link">{{ words }}</span>
        <NumberField
          :value="(raw as Link).times ?? 1"
          unit="×"
          :label="`${spec.label}, times`"
          @change="(t) => set({ ...(raw as Link), times: t })"
        />
      </template>
      <span v-else-if="special === 'field'" class="chip">{{ words }}</span>
      <template v-else-if="spec.type === 'number' || spec.type === 'integer'">
        <input
          v-if="spec.slider"
          type="range"
          :min="spec.slider[0]"
          :max="spec.slider[1]"
          :step="(spec.slider[1] - spec.slider[0]) / 200"
          :value="value as number"
          :aria-label="`${spec.label}, slider`"
          :data-testid="`slider-${mark}${spec.name}`"
          @input="slide"
        />
        <NumberField
          :value="value as number"
          :unit="unit"
          :label="spec.label"
          :low="spec.range[0]"
          :high="spec.range[1]"
          :open-below="spec.open_below"
          :integer="spec.type === 'integer'"
          :initial="spec.default as number"
          :testid="`number-${mark}${spec.name}`"
          :parse="spec.moment ? fromFrame : undefined"
          @change="set"
        />
        <span v-if="fitted" class="frame">fitted</span>
        <span
          v-if="spec.moment"
          class="frame num"
          title="A frame may be typed too: f 25"
          :data-testid="`frame-${spec.name}`"
          >{{ asFrame }}</span
        >
      </template>
      <template v-else-if="spec.type === 'vector' || spec.type === 'range'">
        <NumberField
          v-for="(v, i) in value as number[]"
          :key="i"
          class="narrow"
          :value="v"
          :unit="unit"
          quiet
          :label="`${spec.label} ${spec.type === 'range' ? ['from', 'to'][i] : 'xyz'[i]}`"
          :testid="`number-${spec.name}-${i}`"
          @change="(n) => setAt(i, n)"
        />
        <span class="unit">{{ unit }}</span>
      </template>
      <input
        v-else-if="spec.type === 'switch'"
        type="checkbox"
        :checked="value as boolean"
        :aria-label="spec.label"
        :data-testid="mark ? `look-${spec.name}` : undefined"
        @change="set(($event.target as HTMLInputElement).checked)"
      />
      <FileField
        v-else-if="spec.files.length"
        :value="value as string"
        :sort="spec.files[0]"
        :label="spec.label"
        @change="set"
      />
      <select
        v-else-if="options"
        :value="value as string"
        :aria-label="spec.label"
        :data-testid="mark ? `look-${spec.name}` : `select-${spec.name}`"
        @change="set(($event.target as HTMLSelectElement).value)"
      >
        <option v-if="!options.some((o) => o.id === value)" :value="value as string">
          {{ spec.optional ? 'none' : 'choose …' }}
        </option>
        <option v-else-if="spec.optional" value="">none</option>
        <option v-for="o in options" :key="o.id" :value="o.id">{{ o.name }}</option>
      </select>
      <input
        v-else-if="spec.type === 'colour'"
        type="color"
        :value="value as string"
        :aria-label="spec.label"
        :data-testid="`look-${spec.name}`"
        @change="set(($event.target as HTMLInputElement).value)"
      />
      <div v-else-if="spec.type === 'shapes'" class="many">
        <label v-for="s in study.doc?.shapes" :key="s.id"
          ><input type="checkbox" :checked="(value as string[]).includes(s.id)" @change="toggle(s.id)" />
          {{ s.name }}</label
        >
      </div>
      <CurveEditor
        v-else-if="spec.type === 'curve'"
        :points="value as [number, number][]"
        :label="spec.label"
        :bars="bars"
        @change="set"
      />
      <PointList
        v-else-if="spec.type === 'points'"
        :points="value as [number, number, number][]"
        :testid="`points-${spec.name}`"
        @change="set"
      />
      <input
        v-else-if="spec.type === 'text'"
        class="text"
        :class="{ num: spec.name === 'expression' }"
        :value="value as string"
        :aria-label="spec.label"
        :data-testid="`text-${spec.name}`"
        spellcheck="false"
        @change="set(($event.target as HTMLInputElement).value)"
        @keydown.enter="($event.target as HTMLInputElement).blur()"
      />
      <span v-else class="chip">{{ value }}</span>
      <v-menu v-if="numeric" location="bottom end">
        <template #activator="{ props: p }"
          ><button class="dots" v-bind="p" :aria-label="`More for ${spec.label}`" :data-testid="`more-${spec.name}`">
            ⋯
          </button></template
        >
        <v-list density="compact">
          <v-list-item
            v-if="!special && !mark"
            title="Key over time"
            subtitle="a value that changes"
            @click="makeKeys"
          />
          <v-list-item
            v-if="spec.type === 'number' && !special && !mark"
            title="Link to a parameter …"
            subtitle="then choose it on the screen"
            :data-testid="`link-${spec.name}`"
            @click="waiting = { owner: owner as Selection, spec }"
          />
          <v-list-item
            v-for="l in linkable"
            :key="l.path"
            :title="`Link to ${l.name}`"
            :subtitle="l.path"
            @click="set({ link: l.path, times: l.times } as Link)"
          />
          <v-list-item
            v-for="f in spec.varies ? fields : []"
            :key="f.id"
            :title="`Use field ${f.name}`"
            subtitle="a scalar field in its place"
            @click="set({ field: f.id })"
          />
          <v-list-item v-if="special" title="A plain number again" @click="set(plain)" />
          <v-list-item
            title="Default"
            :subtitle="rawWords(spec.default, spec, study.doc)"
            @click="study.setParam(owner, spec, undefined, 'to its default')"
          />
        </v-list>
      </v-menu>
    </div>
  </div>
</template>

<script setup lang="ts">
import { storeToRefs } from 'pinia'
import { computed } from 'vue'
import type { Keys, Link, ParamSpec, Raw } from '../api/model'
import { shown } from '../lib/quantity'
import { rawWords } from '../score/words'
import { useLook } from '../stores/look'
import { useMeasuring } from '../stores/measuring'
import { useCatalogue } from '../stores/catalogue'
import { useRuns } from '../stores/runs'
import { useStudy, type Owner, type Selection } from '../stores/study'
import CurveEditor from './CurveEditor.vue'
import FileField from './FileField.vue'
import NumberField from './NumberField.vue'
import { choiceWords } from '../kinds/looks'
import { linkTo, pathOf } from './linking'
import PointList from './PointList.vue'
import { useDesk } from '../stores/desk'

const props = defineProps<{
  spec: ParamSpec
  raw: Raw | undefined
  owner: Owner
  auto?: number
  channels?: { id: string; name: string }[]
}>()
/** Rows of a look are told from those of a step. */
const mark = computed(() => (props.owner?.kind === 'look' ? 'look-' : ''))
const study = useStudy()
const { waiting } = storeToRefs(useDesk())
const listed = useCatalogue()
const runs = useRuns()
const look = useLook()
const numbers = useMeasuring()
const value = computed<Raw>(
  () => props.raw ?? props.spec.default ?? props.auto ?? (props.spec.type === 'shapes' ? [] : ''),
)
const fitted = computed(() => props.auto !== undefined && (props.raw ?? props.spec.default) === null)
const special = computed(() => {
  const r = props.raw
  if (!r || typeof r !== 'object' || Array.isArray(r)) return ''
  return 'keys' in r ? 'keys' : 'link' in r ? 'link' : 'field'
})
const numeric = computed(() => ['number', 'integer', 'vector'].includes(props.spec.type))
const unit = computed(() => (props.spec.unit === 'as the field' ? '' : props.spec.unit))
const words = computed(() => rawWords(value.value, props.spec, study.doc))
const help = computed(() => {
  const s = props.spec
  const [a, b] = s.range
  const range = a !== null || b !== null ? ` Range ${a ?? '…'} to ${b ?? '…'} ${unit.value}.` : ''
  return `${s.help}.${range} Default ${rawWords(s.default, s, study.doc)}.`
})
/** Whether a lane ends as a scalar, or as a vector, as far as is known. */
const endsAs = (id: string, kind: string) =>
  ((look.swatches?.facts.steps ?? []).filter((s) => s.lane === id).at(-1)?.kind ?? kind) === kind
const fields = computed(() =>
  (study.doc?.fields ?? []).filter(
    (f) => f.id !== (props.owner?.kind === 'step' ? props.owner.lane : '') && endsAs(f.id, 'scalar'),
  ),
)
/** Flows that offer what the step takes from them, but for its own. */
const flows = computed(() => {
  const own = props.owner?.kind === 'step' ? props.owner.lane : ''
  const fits = (kind: string | undefined) => !props.spec.provides || listed.provides(kind, props.spec.provides)
  return (study.doc?.flows ?? [])
    .filter((f) => f.id !== own && fits(f.kind))
    .flatMap((f) => {
      const more = listed.heldBy(f.kind).filter((r) => r.form === props.spec.provides)
      return [f, ...more.slice(1).map((r) => ({ id: `${f.id}:${r.name}`, name: `${f.name} · ${r.label}` }))]
    })
    .map(({ id, name }) => ({ id, name }))
})
const options = computed<{ id: string; name: string }[] | null>(() => {
  const d = study.doc
  switch (props.spec.type) {
    case 'choice':
      return props.spec.choices.map((c) => ({ id: c, name: mark.value ? choiceWords(c) : c }))
    case 'shape':
      return d?.shapes.map((s) => ({ id: s.id, name: s.name })) ?? []
    case 'region':
      return d?.regions.map((r) => ({ id: r.id, name: r.name })) ?? []
    case 'field':
      return (d?.fields ?? [])
        .filter((f) => props.owner?.kind !== 'step' || f.id !== props.owner.lane)
        .filter((f) => !props.spec.wants || f.id === props.raw || endsAs(f.id, props.spec.wants))
        .map((f) => ({ id: f.id, name: f.name }))
    case 'flow':
      return flows.value
    case 'channel':
      return props.channels ?? []
    default:
      return null
  }
})
const linkable = computed(() =>
  props.spec.type === 'number' && props.spec.unit === 'm'
    ? (study.doc?.regions ?? []).map((r) => ({
        path: `regions.${r.id}.voxel_size`,
        name: `voxel size of ${r.name}`,
        times: 6,
      }))
    : [],
)
const plain = computed<Raw>(() => {
  const r = props.raw as Keys | Link
  return 'keys' in r ? (r.keys[0][1] as Raw) : props.spec.default
})
const path = computed(() => (props.owner?.kind === 'look' ? null : pathOf(props.owner, props.spec.name)))
const pickable = computed(
  () =>
    !!waiting.value &&
    props.spec.type === 'number' &&
    special.value !== 'field' &&
    !!path.value &&
    path.value !== pathOf(waiting.value.owner, waiting.value.spec.name),
)
function set(next: Raw) {
  const inWords = (raw: Raw) => rawWords(raw, props.spec, study.doc)
  const before = props.owner?.kind === 'look' ? '' : `${inWords(value.value)} `
  study.setParam(props.owner, props.spec, next, `${before}→ ${inWords(next)}`)
}
function slide(event: Event) {
  const v = Number((event.target as HTMLInputElement).value)
  const [low] = props.spec.range
  if (props.spec.open_below && low !== null && v <= low) return
  set(props.spec.type === 'integer' ? Math.round(v) : v)
}
function setAt(i: number, v: number) {
  const next = [...(value.value as number[])]
  next[i] = v
  set(next)
}
function toggle(id: string) {
  const now = value.value as string[]
  set(now.includes(id) ? now.filter((x) => x !== id) : [...now, id])
}
function makeKeys() {
  const v = value.value as number
  set({ keys: [[0, v]] } as Keys)
}
function keysWith(change: (k: Keys['keys']) => void) {
  const next = structuredClone(props.raw) as Keys
  change(next.keys)
  next.keys.sort((a, b) => a[0] - b[0])
  next.keys = next.keys.filter((k, i) => i === 0 || k[0] > next.keys[i - 1][0])
  set(next)
}
/** What comes into a remap, as bars under its curve. */
const bars = computed(() => {
  const came = numbers.reading?.incoming
  const s = study.selectedStep
  if (!came?.histogram || s?.op !== 'remap' || props.spec.name !== 'curve') return undefined
  const [a, b] = (Array.isArray(s.params.from_range) ? s.params.from_range : [-1, 1]) as [number, number]
  const most = Math.max(...came.histogram, 1)
  const width = (came.high - came.low) / came.histogram.length
  return came.histogram
    .map((n, i) => ({
      from: (came.low + i * width - a) / (b - a),
      to: (came.low + (i + 1) * width - a) / (b - a),
      height: Math.sqrt(n / most),
    }))
    .filter((x) => x.to > 0 && x.from < 1)
})
const seconds = computed(() =>
  Math.max(
    (runs.clock.end - runs.clock.start) / (runs.clock.fps * runs.clock.slow_motion),
    ...(special.value === 'keys' ? (props.raw as Keys).keys : []).map((k) => k[0]),
  ),
)
const scalarKeys = computed(() => {
  if (special.value !== 'keys') return null
  const keys = (props.raw as Keys).keys
  return keys.every((k) => typeof k[1] === 'number') ? (keys as [number, number][]) : null
})
const keyRange = computed<[number, number]>(
  () =>
    props.spec.slider ?? [
      Math.min(0, ...(scalarKeys.value ?? [[0, 0]]).map((k) => k[1])),
      Math.max(1, ...(scalarKeys.value ?? [[0, 1]]).map((k) => k[1])),
    ],
)
/** A point in time as the frame that is shown then, and back: `f 25`, `frame 25` or `25 f`. */
const asFrame = computed(() => {
  const { start, end, fps, slow_motion } = runs.clock
  const n = start + Number(value.value) * fps * slow_motion
  return n > end ? 'past end' : `f ${shown(Math.round(n * 100) / 100, 6)}`
})
function fromFrame(text: string): number | undefined {
  const found = /^\s*(?:f(?:rame)?\s*(-?[\d.]+)|(-?[\d.]+)\s*f(?:rame)?)\s*$/i.exec(text)
  if (!found) return undefined
  const { start, fps, slow_motion } = runs.clock
  return Number(((Number(found[1] ?? found[2]) - start) / fps / slow_motion).toPrecision(7))
}
function setKeys(points: [number, number][]) {
  set({ ...(props.raw as Keys), keys: points })
}
function setKey(i: number, part: 0 | 1, v: number) {
  keysWith((k) => {
    k[i][part] = v
  })
}
function setKeyAxis(i: number, a: number, v: number) {
  keysWith((k) => {
    ;(k[i][1] as number[])[a] = v
  })
}
function addKey() {
  keysWith((k) => {
    const v = k.at(-1)![1]
    k.push([Number(runs.time.toFixed(4)), Array.isArray(v) ? [...v] : v])
  })
}
function dropKey(i: number) {
  keysWith((k) => {
    if (k.length > 1) k.splice(i, 1)
  })
}
</script>

<style scoped>
.param {
  display: grid;
  grid-template-columns: 92px 1fr;
  gap: 8px;
  align-items: center;
  min-height: 29px;
  border-bottom: 1px solid var(--soft);
}
.v {
  display: flex;
  justify-content: flex-end;
  align-items: center;
  gap: 5px;
  min-width: 0;
  flex-wrap: wrap;
}
input[type='range'] {
  flex: 1;
  min-width: 40px;
  accent-color: rgb(var(--v-theme-primary));
  height: 14px;
}
select {
  border: 1px solid var(--line);
  border-radius: 10px;
  padding: 1px 8px;
  background: var(--card);
  color: inherit;
  font-size: 12px;
  max-width: 160px;
}
.narrow :deep(input) {
  width: 43px;
}
.text {
  border-bottom: 1px solid var(--line);
  width: 100%;
  text-align: right;
  padding: 2px 3px;
  font-size: 12.5px;
}
.text:focus {
  background: var(--card);
  outline: none;
  border-color: var(--signal);
}
.pick {
  box-shadow: inset 2px 0 0 var(--signal);
}
.pickme {
  text-align: left;
  color: var(--signal-text);
  text-decoration: underline;
}
.unit {
  color: var(--muted);
  font-size: 11.5px;
}
.moment {
  flex-wrap: nowrap;
}
.moment input[type='range'] {
  min-width: 20px;
}
.frame {
  color: var(--muted);
  font-size: 11px;
  white-space: nowrap;
}
.dots {
  color: var(--muted);
  width: 14px;
}
.many {
  display: grid;
  gap: 1px;
  font-size: 12px;
  width: 100%;
  padding: 3px 0;
}
.keys {
  display: grid;
  gap: 2px;
  justify-items: end;
  padding: 3px 0;
}
.key {
  display: flex;
  gap: 4px;
  align-items: baseline;
}
.key :deep(input) {
  width: 48px;
}
.link {
  color: var(--muted);
  font-size: 11.5px;
  text-decoration: underline;
}
</style>
