<template>
  <div class="nf" :class="{ wrong: problem }">
    <v-text-field
      ref="box"
      class="slim num"
      :model-value="text"
      :aria-label="label"
      :disabled="disabled"
      inputmode="decimal"
      spellcheck="false"
      variant="underlined"
      hide-details
      @update:model-value="(v: string) => (text = v)"
      @update:focused="(on: boolean) => (on ? focus() : commit())"
      @keydown.enter="input()?.blur()"
      @keydown.esc="revert"
      @keydown.up.prevent="nudge($event, 1)"
      @keydown.down.prevent="nudge($event, -1)"
      @wheel="wheel"
      @dblclick="reset"
    />
    <span
      v-if="!quiet"
      v-tip="'Drag to change; Shift for large steps, Alt for small'"
      class="unit drag"
      :data-testid="testid && `drag-${testid}`"
      @pointerdown.prevent="grip"
      >{{ unit || '↔' }}</span
    >
    <div v-if="problem" :id="whyId" class="why" role="alert">{{ problem }}</div>
  </div>
</template>

<script setup lang="ts">
import { ref, useId, watch } from 'vue'
import { useInput } from '../controls/useInput'
import { parseQuantity, shown } from '../lib/quantity'

const props = defineProps<{
  value: number
  unit?: string
  quiet?: boolean
  label: string
  low?: number | null
  high?: number | null
  openBelow?: boolean
  integer?: boolean
  initial?: number | null
  step?: number
  disabled?: boolean
  testid?: string
  parse?: (text: string) => number | undefined
  describedby?: string
}>()
const emit = defineEmits<{ change: [value: number] }>()
const text = ref(shown(props.value, 6))
const problem = ref('')
const focused = ref(false)
watch(
  () => props.value,
  (v) => {
    if (!focused.value) text.value = shown(v, 6)
  },
)

const whyId = useId()
const { box, input } = useInput(() => ({
  'data-testid': props.testid,
  'aria-invalid': problem.value ? 'true' : undefined,
  'aria-describedby': [problem.value && whyId, props.describedby].filter(Boolean).join(' ') || undefined,
}))
void box
function focus() {
  focused.value = true
  input()?.select()
}
function send(value: number): boolean {
  const v = props.integer ? Math.round(value) : value
  if (props.low != null && (props.openBelow ? v <= props.low : v < props.low)) {
    problem.value = `right would be ${props.openBelow ? 'more than' : 'at least'} ${shown(props.low)}`
    return false
  }
  if (props.high != null && v > props.high) {
    problem.value = `right would be at most ${shown(props.high)}`
    return false
  }
  problem.value = ''
  if (v !== props.value) emit('change', v)
  text.value = shown(v, 6)
  return true
}
function commit() {
  focused.value = false
  try {
    send(props.parse?.(text.value) ?? parseQuantity(text.value, props.unit ?? ''))
  } catch (error) {
    problem.value = (error as Error).message
  }
}
function revert() {
  problem.value = ''
  text.value = shown(props.value, 6)
}
function clamp(v: number) {
  const low = props.low ?? -Infinity
  return Math.min(props.high ?? Infinity, props.openBelow && v <= low ? props.value / 2 : Math.max(low, v))
}
function nudge(event: KeyboardEvent | WheelEvent | PointerEvent, by: number) {
  const size =
    props.step ??
    (props.integer ? 1 : Math.max(1e-4, 10 ** Math.floor(Math.log10(Math.max(Math.abs(props.value), 0.05))) / 10))
  const factor = event.shiftKey ? 10 : event.altKey ? 0.1 : 1
  send(Number(clamp(props.value + by * size * (props.integer ? Math.max(1, factor) : factor)).toPrecision(10)))
}
function wheel(event: WheelEvent) {
  if (!focused.value) return
  event.preventDefault()
  nudge(event, event.deltaY < 0 ? 1 : -1)
}
/** Dragging the unit sideways: a step every few pixels, from the value at the start. */
function grip(event: PointerEvent) {
  if (props.disabled) return
  const handle = event.target as HTMLElement
  handle.setPointerCapture(event.pointerId)
  let last = event.clientX
  const move = (e: PointerEvent) => {
    const steps = Math.trunc((e.clientX - last) / 4)
    if (!steps) return
    last += steps * 4
    nudge(e, steps)
  }
  handle.addEventListener('pointermove', move)
  handle.addEventListener('lostpointercapture', () => handle.removeEventListener('pointermove', move), { once: true })
}
function reset() {
  if (props.initial != null) send(props.initial)
}
</script>

<style scoped>
.nf {
  display: inline-flex;
  align-items: baseline;
  gap: 4px;
  position: relative;
}
.nf :deep(input) {
  width: 68px;
  text-align: right;
}
.unit {
  color: var(--muted);
  font-size: 11.5px;
  min-width: 12px;
}
.drag {
  cursor: ew-resize;
  touch-action: none;
  user-select: none;
}
.wrong :deep(input) {
  color: rgb(var(--v-theme-error));
}
.why {
  position: absolute;
  right: 0;
  top: 100%;
  z-index: 5;
  background: rgb(var(--v-theme-error));
  color: #fff;
  padding: 2px 7px;
  border-radius: 2px;
  font-size: 11px;
  white-space: nowrap;
}
.v-theme--night .why {
  color: #131c2b;
}
</style>
