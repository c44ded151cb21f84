<template>
  <h2><TextLine class="name" :model-value="region.name" label="Name" @update:model-value="rename" /></h2>
  <p>A box of voxels, fitted to shapes or set by its corners.</p>
  <ParamRow
    :spec="VOXEL"
    :raw="region.voxel_size"
    :owner="{ kind: 'region', id: region.id }"
    :keyable="!flowsIn.length"
  />
  <div class="row">
    <span>Padding</span>
    <NumberField
      :value="padding"
      unit="m"
      label="Padding"
      testid="number-padding"
      @change="(v) => study.setPath(`Padding ${shown(padding)} → ${shown(v)} m`, `regions.${region.id}.padding`, v)"
    />
  </div>
  <div class="row">
    <span>Turn</span
    ><span class="three"
      ><NumberField
        v-for="i in 3"
        :key="i"
        class="narrow"
        quiet
        :value="turn[i - 1]"
        :label="`Turn about ${'xyz'[i - 1]}`"
        :testid="`number-turn-${i - 1}`"
        @change="(v) => setTurn(i - 1, v)"
      /><span class="unit">°</span></span
    >
  </div>
  <div v-for="side in SIDES" :key="side.key" class="row">
    <span v-tip="side.help" tabindex="0">{{ side.label }}</span><span class="three"
      ><NumberField
        v-for="i in 3"
        :key="i"
        class="narrow"
        quiet
        :value="region.bounds[side.key]?.[i - 1] ?? 0"
        unit="m"
        :label="`${side.label} ${'xyz'[i - 1]}`"
        :testid="`number-${side.key}-${i - 1}`"
        @change="(v) => more(side.key, i - 1, v)"
      /><span class="unit">m</span></span
    >
  </div>
  <div class="row">
    <span v-tip="'The region ends below at this plane, or at the lowest point of this shape'" tabindex="0"
      >Floor at</span
    ><PickOne
      :model-value="region.bounds.floor ?? ''"
      :items="floors"
      label="Floor at"
      testid="region-floor"
      @update:model-value="(id) => change('Floor', (r) => void (r.bounds.floor = id))"
    />
  </div>
  <div v-if="region.bounds.fit.length" class="row">
    <span>Fitted</span
    ><PickOne
      :model-value="when"
      :items="WHEN"
      label="Fitted when"
      testid="fitted-when"
      @update:model-value="setWhen"
    /><v-btn
      v-tip="'Keeps the box as it is; shapes may then move without it'"
      size="small"
      data-testid="fit-once"
      @click="change('Fit once', (r) => stay(r))"
      >Fix here</v-btn
    >
  </div>
  <div class="row">
    <TickBox
      :model-value="!!region.cells"
      words="show the cells"
      testid="cells"
      @update:model-value="(on) => change('Show cells', (r) => void (r.cells = on))"
    />
  </div>
  <div class="row top">
    <span>Fitted to</span>
    <div class="many">
      <TickBox
        v-for="s in shapes"
        :key="s.id"
        :model-value="region.bounds.fit.includes(s.id)"
        :words="s.name"
        :testid="`fit-${s.id}`"
        @update:model-value="fit(s.id)"
      />
      <span v-if="!shapes.length" class="muted">no shape yet</span>
    </div>
  </div>
  <template v-if="!region.bounds.fit.length && region.bounds.lower && region.bounds.upper">
    <div class="row">
      <span>Lower corner</span
      ><span class="three"
        ><NumberField
          v-for="i in 3"
          :key="i"
          class="narrow"
          quiet
          unit="m"
          :value="region.bounds.lower[i - 1]"
          :label="`Lower ${'xyz'[i - 1]}`"
          @change="(v) => corner('lower', i - 1, v)"
        /><span class="unit">m</span></span
      >
    </div>
    <div class="row">
      <span>Upper corner</span
      ><span class="three"
        ><NumberField
          v-for="i in 3"
          :key="i"
          class="narrow"
          quiet
          unit="m"
          :value="region.bounds.upper[i - 1]"
          :label="`Upper ${'xyz'[i - 1]}`"
          @change="(v) => corner('upper', i - 1, v)"
        /><span class="unit">m</span></span
      >
    </div>
  </template>
  <div v-if="facts" class="cost" :class="{ over: error }" data-testid="region-cost">
    <span class="muted">voxels</span
    ><span class="num">{{ facts.shape.join(' × ') }} = {{ facts.voxels.toLocaleString('en') }}</span>
    <span class="muted">baked vector</span><span class="num">{{ bytes(facts.bytes) }}</span>
    <span class="muted">budget</span><span class="num">{{ bytes(look.scene?.facts.budget ?? 0) }}</span>
  </div>
  <p v-if="error" class="over" role="alert" data-testid="region-error">{{ error }}</p>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { ParamSpec, Region } from '../api/model'
import PickOne from '../controls/PickOne.vue'
import TextLine from '../controls/TextLine.vue'
import TickBox from '../controls/TickBox.vue'
import { bytes, shown } from '../lib/quantity'
import { useLook } from '../stores/look'
import { useStudy } from '../stores/study'
import NumberField from './NumberField.vue'
import { stay } from '../score/uses'
import ParamRow from './ParamRow.vue'

const props = defineProps<{ region: Region }>()
const study = useStudy()
const look = useLook()
const facts = computed(() => look.scene?.facts.regions.find((r) => r.id === props.region.id))
const error = computed(() => look.scene?.facts.errors[`regions.${props.region.id}`])
/** A voxel size may be linked, linked to, and keyed where no flow is computed on it. */
const VOXEL: ParamSpec = {
  name: 'voxel_size',
  label: 'Voxel size',
  type: 'number',
  unit: 'm',
  range: [0, null],
  open_below: true,
  slider: [0.01, 0.5],
  default: 0.1,
  required: false,
  choices: [],
  help: 'Half of it is eight times the voxels',
  varies: false,
  rate: false,
  when: null,
  files: [],
  optional: false,
  group: '',
  moment: false,
  provides: '',
  wants: '',
}
const flowsIn = computed(() =>
  (study.doc?.flows ?? []).filter((f) => f.steps.some((s) => s.params.region === props.region.id)),
)
const padding = computed(() => (typeof props.region.bounds.padding === 'number' ? props.region.bounds.padding : 0))
const turn = computed(() => (Array.isArray(props.region.turn) ? (props.region.turn as number[]) : [0, 0, 0]))
function setTurn(i: number, v: number) {
  change('Turn the region', (r) => {
    const t = [...turn.value] as [number, number, number]
    t[i] = v
    r.turn = t
  })
}
const SIDES = [
  { key: 'more_below', label: 'More below', help: 'Besides the padding, on the lower side of each axis' },
  { key: 'more_above', label: 'More above', help: 'Besides the padding, on the upper side of each axis' },
] as const
const WHEN = [
  { id: 'first', name: 'to the first frame' },
  { id: 'all', name: 'to all frames' },
  { id: 'always', name: 'anew at every frame' },
]
const when = computed(() => (props.region.follow ? 'always' : props.region.over === 'all frames' ? 'all' : 'first'))
const setWhen = (id: string) =>
  change(`Fitted ${WHEN.find((w) => w.id === id)?.name}`, (r) => {
    r.follow = id === 'always'
    r.over = id === 'all' ? 'all frames' : 'first frame'
  })
const floors = computed(() => [
  { id: '', name: 'none' },
  ...(study.doc?.shapes ?? []).map(({ id, name }) => ({ id, name })),
])
const more = (side: 'more_below' | 'more_above', i: number, v: number) =>
  change(`${side === 'more_below' ? 'More below' : 'More above'} ${'xyz'[i]} → ${shown(v)} m`, (r) => {
    const next = [...(r.bounds[side] ?? [0, 0, 0])] as [number, number, number]
    next[i] = v
    r.bounds[side] = next
  })
const shapes = computed(() => (study.doc?.shapes ?? []).filter((s) => s.kind !== 'plane'))
const change = (label: string, f: (r: Region) => void) =>
  study.edit(label, (d) => {
    const r = d.regions.find((x) => x.id === props.region.id)
    if (r) f(r)
  })
function rename(typed: string) {
  const name = typed.trim()
  if (name)
    change(`Rename to ${name}`, (r) => {
      r.name = name
    })
}
function fit(id: string) {
  change('Fit the region', (r) => {
    r.bounds.fit = r.bounds.fit.includes(id) ? r.bounds.fit.filter((x) => x !== id) : [...r.bounds.fit, id]
    if (r.bounds.fit.length) {
      r.bounds.lower = null
      r.bounds.upper = null
    } else stay(r)
  })
}
function corner(which: 'lower' | 'upper', i: number, v: number) {
  change(`${which === 'lower' ? 'Lower' : 'Upper'} corner`, (r) => {
    r.bounds[which]![i] = v
  })
}
</script>

<style scoped>
.row {
  display: flex;
  justify-content: space-between;
  align-items: center;
  min-height: 29px;
  border-bottom: 1px solid var(--soft);
}
.row.top {
  align-items: flex-start;
  padding: 4px 0;
}
.many {
  display: grid;
  font-size: 12px;
}
.narrow :deep(input) {
  width: 48px;
}
.row {
  gap: 8px;
}
.row > :first-child {
  white-space: nowrap;
}
.three {
  display: flex;
  gap: 4px;
  align-items: baseline;
}
.unit {
  color: var(--muted);
  font-size: 11.5px;
}
.cost {
  margin-top: 10px;
  display: grid;
  grid-template-columns: 1fr auto;
  row-gap: 3px;
  font-size: 12px;
}
.pickme {
  color: var(--signal-text);
  text-decoration: underline;
}
.over {
  color: rgb(var(--v-theme-error)) !important;
}
</style>
