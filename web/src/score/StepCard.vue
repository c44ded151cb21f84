<template>
  <div
    ref="card"
    v-tip="tip"
    class="step"
    :class="{ sel: selected, off: !step.on, hot: linked, marked: isMarked }"
    role="button"
    tabindex="0"
    :aria-pressed="selected"
    :data-testid="`step-${lane.id}-${step.id}`"
    @click="click"
    @focus="focused"
    @keydown="keys"
    @contextmenu.prevent="openMenu"
    @mouseenter="hoverUse(true)"
    @mouseleave="hoverUse(false)"
  >
    <canvas v-if="!flow" ref="canvas" :width="look.size" :height="look.size" :data-ready="!!values" />
    <FlowTile v-else :lane="lane" :step="step" />
    <div class="words">
      <b>{{ entry?.label ?? step.op }}</b>
      <span v-if="uses"
        ><i class="chip" @click="jump">{{ uses.name }}</i></span
      >
      <span v-else :class="{ bad: !!error }">{{ error ? 'cannot be built' : headline }}</span>
      <div v-if="busy !== undefined" class="busy">
        <i :style="{ width: `${8 + 92 * busy}%` }" />
      </div>
      <div v-else-if="!flow" class="rng"><i :style="bar" /></div>
    </div>
  </div>
</template>

<script setup lang="ts">
import { storeToRefs } from 'pinia'
import { computed, ref, watch, onMounted } from 'vue'
import type { Lane, ParamSpec, Step } from '../api/model'
import { applies } from '../lib/applies'
import { paint } from '../lib/colour'
import { useLook } from '../stores/look'
import { useWorking } from '../stores/working'
import { useStudy } from '../stores/study'
import FlowTile from './FlowTile.vue'
import { mark, remove as removeSteps } from './clipboard'
import { rawWords } from './words'
import { useDesk } from '../stores/desk'

const props = defineProps<{ lane: Lane; step: Step }>()
const study = useStudy()
const { cardMenu, hoveredLane, marked } = storeToRefs(useDesk())
const look = useLook()
const work = useWorking()
const canvas = ref<HTMLCanvasElement | null>(null)
const card = ref<HTMLElement | null>(null)
const flow = computed(() => study.isFlow(props.lane.id))
const entry = computed(() => study.entry(props.step.op, props.lane.id))
const tip = computed(() => {
  if (error.value) return error.value
  if (busy.value !== undefined) return `being computed: ${Math.round(busy.value * 100)} %`
  return `${entry.value?.yields ?? ''}${props.step.on ? '' : ' · switched off (D)'}`
})
const selected = computed(
  () =>
    study.selection?.kind === 'step' && study.selection.lane === props.lane.id && study.selection.id === props.step.id,
)
const intoView = (on: boolean) => {
  if (on) card.value?.scrollIntoView({ block: 'nearest', inline: 'nearest' })
}
watch(selected, intoView, { flush: 'post' })
onMounted(() => intoView(selected.value))
const name = computed(() => `${props.lane.id}.${props.step.id}`)
const values = computed(() => look.swatches?.arrays[name.value] as Float32Array | undefined)
const facts = computed(() =>
  look.swatches?.facts.steps.find((s) => s.lane === props.lane.id && s.step === props.step.id),
)
const error = computed(
  () =>
    Object.entries(look.swatches?.facts.errors ?? {}).find(
      ([k]) => k === `fields.${name.value}` || k.startsWith(`fields.${name.value}.`),
    )?.[1],
)
const uses = computed(() => {
  const spec = entry.value?.params.find((p) => (p.type === 'field' || p.type === 'flow') && props.step.params[p.name])
  const id = spec && props.step.params[spec.name]
  return typeof id === 'string' && props.step.op !== 'carry' ? study.laneOf(id.split(':')[0]) : undefined
})
const busy = computed<number | undefined>(() => work.working[`fields.${name.value}`])
const linked = computed(() => hoveredLane.value !== '' && hoveredLane.value === props.lane.id)
const headline = computed(() => {
  const value = (name: string) =>
    String(props.step.params[name] ?? entry.value?.params.find((p) => p.name === name)?.default)
  const counts = (p: ParamSpec) => applies(p, value)
  const first = entry.value?.params.find((p) => p.name === entry.value?.headline)
  // the parameter that matters may not apply: then its counterpart does (a count in place of a rate)
  const spec =
    first && !counts(first)
      ? (entry.value!.params.find((p) => p.when && counts(p) && Object.keys(first.when!).some((k) => k in p.when!)) ??
        first)
      : first
  const raw = spec && (props.step.params[spec.name] ?? spec.default)
  // nothing stands in for it
  if (spec?.name === first?.name && first && !counts(first)) return value(Object.keys(first.when!)[0])
  return spec ? (raw === '' && spec.required ? 'not chosen' : rawWords(raw, spec, study.doc)) : ''
})
const bar = computed(() => {
  const m = look.laneMapping(props.lane.id)
  const f = facts.value
  if (!f) return { width: '0%' }
  const at = (v: number) => Math.max(0, Math.min(1, (v - m.low) / (m.high - m.low))) * 100
  return { left: `${at(f.low)}%`, right: `${100 - Math.max(at(f.high), at(f.low) + 1.5)}%` }
})
function draw() {
  const c = canvas.value?.getContext('2d')
  if (!c || !values.value || values.value.length !== look.size * look.size) return
  c.putImageData(
    new ImageData(paint(values.value, look.size, look.size, look.laneMapping(props.lane.id)), look.size, look.size),
    0,
    0,
  )
}
onMounted(draw)
watch([values, canvas], draw, { flush: 'post' })

const isMarked = computed(() => marked.value.has(`${props.lane.id}/${props.step.id}`))
function click(event: MouseEvent) {
  if (event.ctrlKey || event.metaKey || event.shiftKey) {
    const s = study.selection
    if (!marked.value.size && s?.kind === 'step' && s.lane === props.lane.id && s.id !== props.step.id)
      mark(s.lane, s.id)
    mark(props.lane.id, props.step.id)
  } else {
    marked.value = new Set()
    choose()
  }
}
/** Reached by the keyboard; a click chooses by itself, so that Ctrl + click still knows what was chosen before. */
function focused() {
  if (card.value?.matches(':focus-visible')) choose()
}
function openMenu(event: MouseEvent) {
  if (!isMarked.value) {
    marked.value = new Set()
    choose()
  }
  cardMenu.value = { x: event.clientX, y: event.clientY }
}
function choose() {
  study.select({ kind: 'step', lane: props.lane.id, id: props.step.id })
}
/** A click on the chip of a tile that is not selected selects the tile; the next one goes where the chip says. */
function jump(event: MouseEvent) {
  if (!selected.value) return
  event.stopPropagation()
  if (uses.value) study.select({ kind: 'lane', id: uses.value.id })
}
function hoverUse(on: boolean) {
  hoveredLane.value = on && uses.value ? uses.value.id : ''
}
function keys(event: KeyboardEvent) {
  if (event.key === 'Delete' || event.key === 'Backspace') removeSteps()
  else if (event.altKey && (event.key === 'ArrowLeft' || event.key === 'ArrowRight')) {
    event.preventDefault()
    shift(event.key === 'ArrowLeft' ? -1 : 1)
  }
}
function shift(by: number) {
  study.edit(`Move ${entry.value?.label}`, (d) => {
    const steps = [...d.fields, ...d.flows].find((x) => x.id === props.lane.id)!.steps
    const from = steps.findIndex((s) => s.id === props.step.id)
    const to = from + by
    if (to >= 0 && to < steps.length) steps.splice(to, 0, ...steps.splice(from, 1))
  })
}
</script>

<style scoped>
.busy {
  height: 3px;
  background: var(--soft);
  margin-top: 3px;
}
.busy i {
  display: block;
  height: 3px;
  background: var(--signal);
}
.step {
  flex: none;
  width: 182px;
  height: 47px;
  display: grid;
  grid-template-columns: 47px 1fr;
  border: 1px solid var(--line);
  background: var(--card);
  border-radius: 2px;
  overflow: hidden;
  cursor: pointer;
}
.step.sel {
  border-color: var(--signal);
  box-shadow: 0 0 0 1px var(--signal);
}
.step.marked {
  background: var(--soft);
  border-color: rgb(var(--v-theme-primary));
}
.step.hot {
  border-color: var(--muted);
}
.step.off {
  border-style: dashed;
  background: none;
}
.step.off canvas,
.step.off .icon {
  opacity: 0.3;
}
.step.off b {
  font-weight: 400;
  color: var(--muted);
  text-decoration: line-through;
}
.step.off .rng {
  visibility: hidden;
}
canvas {
  width: 47px;
  height: 47px;
  background: var(--soft);
}
.icon {
  background: #0f1b2d;
  color: #f5f0e6;
  display: grid;
  place-items: center;
}
.words {
  padding: 2px 8px;
  min-width: 0;
}
b {
  font-weight: 600;
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  font-size: 12px;
}
span {
  color: var(--muted);
  font-size: 11px;
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.chip {
  font-style: normal;
  font-size: 10.5px;
  padding: 0 6px;
}
.rng {
  height: 3px;
  background: var(--soft);
  margin-top: 3px;
  position: relative;
}
.rng i {
  position: absolute;
  top: 0;
  bottom: 0;
  background: rgb(var(--v-theme-primary));
}
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
