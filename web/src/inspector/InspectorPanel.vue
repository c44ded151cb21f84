<template>
  <aside class="insp" aria-label="Inspector" data-testid="inspector">
    <v-btn
      v-tip="tall ? 'Give the score its width back' : 'As tall as the window'"
      class="tall-btn"
      :aria-label="tall ? 'Inspector beside the view' : 'Inspector as tall as the window'"
      :aria-pressed="tall"
      data-testid="tall"
      @click="$emit('tall')"
      ><v-icon :icon="tall ? mdiArrowCollapseVertical : mdiArrowExpandVertical" size="14"
    /></v-btn>
    <p v-if="waiting" class="waiting" role="status" data-testid="linking">
      Choose the parameter that {{ waiting.spec.label }} shall follow: go to its step or shape, then click its name.
      <v-btn class="plain" @click="waiting = null">Cancel</v-btn>
    </p>
    <template v-if="kind === 'region' && region"><RegionForm :region="region" /></template>
    <template v-else-if="entry && part">
      <h2>
        <TextLine
          v-if="kind === 'shape'"
          class="name"
          :model-value="(part as Shape).name"
          label="Name"
          @update:model-value="rename"
        /><span v-else data-testid="inspector-title">{{ entry.label }}</span>
        <TickBox
          v-if="step"
          class="on"
          :model-value="step.on"
          words="on"
          testid="step-on"
          @update:model-value="toggle"
        />
        <TickBox
          v-if="kind === 'shape'"
          class="on"
          :model-value="(part as Shape).shown"
          words="shown"
          testid="shape-shown"
          @update:model-value="toggleShown"
        />
      </h2>
      <p>{{ firstSentence }}</p>
      <p v-if="kind === 'shape' && fault" class="fault" role="alert" data-testid="shape-fault">{{ fault }}</p>
      <p v-else-if="kind === 'shape' && about" class="muted num" data-testid="shape-about">{{ about }}</p>
      <canvas
        v-if="look.slice && step && !flow && look.slice.facts.kind !== 'none'"
        ref="big"
        class="big"
        width="292"
        height="118"
        data-testid="big-swatch"
        @pointermove="readSwatch"
        @pointerleave="under = ''"
      />
      <p v-if="under" class="under num" data-testid="swatch-value">{{ under }}</p>
      <p v-if="step && !flow && look.slice?.facts.kind === 'none'" class="muted">Nothing comes before this step.</p>
      <v-btn
        v-if="kind === 'shape' && (part as Shape).kind === 'curve' && !part.params.file"
        class="plain draw"
        data-testid="draw-path"
        :aria-pressed="view.drawing === (part as Shape).id"
        @click="view.drawing = view.drawing ? '' : (part as Shape).id"
      >
        {{ view.drawing ? 'Stop drawing' : 'Draw in the view' }}
      </v-btn>
      <template v-for="g in groups" :key="g.name">
        <v-btn
          v-if="g.name"
          class="plain fold"
          :aria-expanded="g.open"
          :data-testid="`fold-${g.name}`"
          @click="fold(g.name)"
        >
          <v-icon :icon="g.open ? mdiChevronDown : mdiChevronRight" size="16" />{{ g.name
          }}<span class="muted">{{ g.words }}</span>
        </v-btn>
        <template v-if="g.open"
          ><ParamRow
            v-for="p in g.params"
            :key="p.name"
            :spec="p"
            :raw="part.params[p.name]"
            :owner="study.selection"
            :channels="channels"
        /></template>
      </template>
      <HalfSteps v-if="step && flow && halvable" :flow="halvable" :itself="chosen" />
      <ReadingRows
        v-if="step && (!flow || look.gas) && (numbers.reading || numbers.measuring)"
        :reading="numbers.reading"
        :measuring="numbers.measuring"
      />
      <p v-if="step && 'formula' in entry && entry.formula" class="formula num">{{ entry.formula }}</p>
      <details v-if="step && entry.mistake" class="mistake">
        <summary>Often goes wrong</summary>
        {{ entry.mistake }}
        <router-link :to="`/handbook#${'lane' in entry ? entry.lane : 'shape'}-${entry.id}`">handbook</router-link>
      </details>
    </template>
    <template v-else>
      <h2>{{ lane?.name ?? 'Nothing selected' }}</h2>
      <p>
        {{
          lane
            ? 'A lane is read left to right: each step changes what the one before it made.'
            : 'Choose a step, a shape or a region in the score below.'
        }}
      </p>
      <ReadingRows
        v-if="lane && (!flow || look.gas) && (numbers.reading || numbers.measuring) && lane.steps.length"
        :reading="numbers.reading"
        :measuring="numbers.measuring"
      />
      <LookRows v-if="lane && flow" :flow="lane.id" />
      <ExportPanel />
    </template>
    <LookRows v-if="entry && step && flow && study.selection?.kind === 'step'" :flow="study.selection.lane" />
    <ExportPanel v-if="entry && part" />
  </aside>
</template>

<script setup lang="ts">
import { storeToRefs } from 'pinia'
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import { mdiArrowCollapseVertical, mdiArrowExpandVertical, mdiChevronDown, mdiChevronRight } from '@mdi/js'
import type { ParamSpec, Region, Shape } from '../api/model'
import TextLine from '../controls/TextLine.vue'
import TickBox from '../controls/TickBox.vue'
import { channelsIn } from '../forms/channels'
import { applies } from '../lib/applies'
import { paint } from '../lib/colour'
import { shown } from '../lib/quantity'
import { useLook } from '../stores/look'
import { useMeasuring } from '../stores/measuring'
import { useView } from '../stores/view'
import { useStudy } from '../stores/study'
import { rawWords } from '../score/words'
import ExportPanel from './ExportPanel.vue'
import HalfSteps from './HalfSteps.vue'
import LookRows from './LookRows.vue'
import ParamRow from './ParamRow.vue'
import ReadingRows from './ReadingRows.vue'
import RegionForm from './RegionForm.vue'
import { useDesk } from '../stores/desk'

defineProps<{ tall: boolean }>()
defineEmits<{ tall: [] }>()
const study = useStudy()
const { waiting } = storeToRefs(useDesk())
const look = useLook()
const numbers = useMeasuring()
const view = useView()
const big = ref<HTMLCanvasElement | null>(null)
const kind = computed(() => study.selection?.kind)
const step = computed(() => study.selectedStep)
const part = computed(() =>
  kind.value === 'step'
    ? study.selectedStep
    : kind.value === 'shape'
      ? (study.selectedPart as Shape | undefined)
      : undefined,
)
const region = computed(() => study.selectedPart as Region | undefined)
const lane = computed(() => {
  const s = study.selection
  return s?.kind === 'lane' ? study.laneOf(s.id) : undefined
})
const flow = computed(() => {
  const s = study.selection
  return s?.kind === 'step' ? study.isFlow(s.lane) : s?.kind === 'lane' ? study.isFlow(s.id) : false
})
const entry = computed(() => {
  const s = study.selection
  if (s?.kind === 'step' && step.value) return study.entry(step.value.op, s.lane)
  if (s?.kind === 'shape' && part.value) return study.shapeEntry((part.value as Shape).kind)
  return undefined
})
/** Channels that a step may name: those of its lane, but for the one that it makes itself. */
const channels = computed(() => {
  const own = study.selectedLane
  return own && step.value
    ? channelsIn(own, (op) => study.entry(op, own.id), String(step.value.params.name ?? byDefault('name') ?? ''))
    : []
})
/** What keeps the selected shape from being, or what is worth knowing of it. */
const shapeId = computed(() => (kind.value === 'shape' ? (study.selection as { id: string }).id : ''))
const fault = computed(() => look.scene?.facts.errors[`shapes.${shapeId.value}`] ?? '')
const about = computed(() => look.scene?.facts.shapes.find((s) => s.id === shapeId.value)?.about ?? '')
const firstSentence = computed(() => entry.value?.doc.split('\n\n')[0].replace(/\n/g, ' ').replace(/`/g, '') ?? '')
const byDefault = (name: string) => entry.value!.params.find((q) => q.name === name)?.default
/** The flow, if the step says how many substeps it takes, or how many it may. */
const takes = (name: string) => !!entry.value?.params.some((p) => p.name === name)
const halvable = computed(() =>
  study.selection?.kind === 'step' && (takes('substeps') || takes('most_substeps')) ? study.selection.lane : '',
)
/** Whether substeps are chosen by hand: then some particles are enough to tell what they gain. */
const chosen = computed(() => takes('substeps'))
const visible = computed(() =>
  (entry.value?.params ?? []).filter((p) => applies(p, (name) => part.value?.params[name] ?? byDefault(name))),
)
/** Parameters under the heading that folds them; what has been changed is told beside a folded one. */
const opened = ref<Record<string, boolean>>({})
const groups = computed(() => {
  const made: { name: string; params: ParamSpec[]; open: boolean; words: string }[] = []
  for (const p of visible.value) {
    const last = made.at(-1)
    if (last?.name === p.group) last.params.push(p)
    else made.push({ name: p.group, params: [p], open: true, words: '' })
  }
  for (const g of made) {
    const set = g.params.filter((p) => part.value?.params[p.name] !== undefined)
    g.words = set
      .map((p) => `${p.label.toLowerCase()} ${rawWords(part.value!.params[p.name], p, study.doc)}`)
      .join(', ')
    g.open = !g.name || (opened.value[`${entry.value?.id}/${g.name}`] ?? false) || !!waiting.value
  }
  return made
})
function fold(name: string) {
  const key = `${entry.value?.id}/${name}`
  opened.value = { ...opened.value, [key]: !opened.value[key] }
}
function draw() {
  const c = big.value?.getContext('2d')
  const s = look.slice
  const values = s?.arrays.values as Float32Array | undefined
  if (!c || !s || !values) return
  const [rows, columns] = s.shapes.values
  const tile = document.createElement('canvas')
  tile.width = columns
  tile.height = rows
  tile.getContext('2d')!.putImageData(new ImageData(paint(values, columns, rows, look.mapping), columns, rows), 0, 0)
  const k = Math.max(292 / columns, 118 / rows)
  c.imageSmoothingEnabled = true
  c.drawImage(tile, (292 - columns * k) / 2, (118 - rows * k) / 2, columns * k, rows * k)
}
const under = ref('')
/** Value and place of the slice under the pointer. */
function readSwatch(event: PointerEvent) {
  const s = look.slice
  const values = s?.arrays.values as Float32Array | undefined
  if (!s || !values || !big.value) return
  const [rows, columns] = s.shapes.values
  const r = big.value.getBoundingClientRect()
  const k = Math.max(292 / columns, 118 / rows)
  const col = Math.floor((((event.clientX - r.left) / r.width) * 292 - (292 - columns * k) / 2) / k)
  const row = rows - 1 - Math.floor((((event.clientY - r.top) / r.height) * 118 - (118 - rows * k) / 2) / k)
  if (col < 0 || row < 0 || col >= columns || row >= rows) {
    under.value = ''
    return
  }
  const w = look.window
  const at = [0, 1, 2].map((i) => w.origin[i] + (w.u[i] * (col + 0.5)) / columns + (w.v[i] * (row + 0.5)) / rows)
  under.value = `${shown(values[row * columns + col], 4)} ${s.facts.unit} at ${at.map((v) => v.toFixed(2)).join(' ')} m`
}
onMounted(draw)
watch(
  () => [look.slice, look.mapping, big.value],
  () => void nextTick(draw),
)
function toggle() {
  const s = study.selection
  if (s?.kind !== 'step') return
  study.edit(`${entry.value?.label} ${step.value?.on ? 'off' : 'on'}`, (d) => {
    const t = [...d.fields, ...d.flows].find((l) => l.id === s.lane)?.steps.find((x) => x.id === s.id)
    if (t) t.on = !t.on
  })
}
function toggleShown() {
  const id = (part.value as Shape).id
  study.edit('Show or hide a shape', (d) => {
    const s = d.shapes.find((x) => x.id === id)
    if (s) s.shown = !s.shown
  })
}
function rename(typed: string) {
  const id = (part.value as Shape).id
  const name = typed.trim()
  if (name)
    study.edit(`Rename to ${name}`, (d) => {
      d.shapes.find((x) => x.id === id)!.name = name
    })
}
</script>

<style>
.fault {
  color: var(--signal);
}
.insp .tall-btn {
  float: right;
  width: 20px;
  min-width: 20px;
  height: 22px;
  padding: 0;
  margin: 0 -4px 0 6px;
  color: var(--muted);
}
.insp {
  border-left: 1px solid var(--line);
  padding: 10px 14px;
  overflow: auto;
  min-height: 0;
}
.insp h2 {
  font-size: 16px;
  font-weight: 600;
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.insp h2 .on {
  font-size: 12px;
  font-weight: 400;
  color: var(--muted);
  flex: none;
}
.insp .name {
  width: 190px;
}
.insp .name .v-field {
  font-weight: 600;
  font-size: 16px;
}
.insp p {
  color: var(--muted);
  margin: 2px 0 8px;
}
.insp .big {
  display: block;
  width: 292px;
  height: 118px;
  border: 1px solid var(--line);
  margin-bottom: 6px;
}
.insp .draw {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 3px 10px;
  margin-bottom: 6px;
}
.insp .draw:hover {
  background: var(--soft);
}
.insp .under {
  position: absolute;
  right: 15px;
  margin-top: -24px;
  background: var(--card);
  padding: 0 6px;
  font-size: 11px;
  pointer-events: none;
}
.insp .waiting {
  background: var(--soft);
  padding: 6px 10px;
  color: inherit;
}
.insp .waiting button {
  text-decoration: underline;
}
.insp .fold {
  display: flex;
  align-items: center;
  gap: 4px;
  width: 100%;
  min-height: 29px;
  border-bottom: 1px solid var(--soft);
  text-align: left;
  font-weight: 600;
  font-size: 12px;
}
.insp .fold:hover {
  background: var(--soft);
}
.insp .fold .muted {
  font-weight: 400;
  margin-left: auto;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  min-width: 0;
}
.insp .formula {
  font-size: 11.5px;
  margin-top: 8px;
  overflow-wrap: anywhere;
}
.mistake {
  margin-top: 8px;
  font-size: 12px;
  color: var(--muted);
}
.mistake summary {
  cursor: pointer;
}
</style>
