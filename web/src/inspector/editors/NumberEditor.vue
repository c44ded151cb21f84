<template>
  <SlideTo
    v-if="spec.slider"
    :model-value="Number(value)"
    :low="spec.slider[0]"
    :high="spec.slider[1]"
    :label="`${spec.label}, slider`"
    :testid="`slider-${mark}${spec.name}`"
    @update:model-value="slide"
  />
  <NumberField
    :value="Number(value)"
    :unit="unit"
    :label="spec.label"
    :low="spec.range[0]"
    :high="spec.range[1]"
    :open-below="spec.open_below"
    :integer="spec.type === 'integer'"
    :initial="spec.default as number"
    :testid="`number-${mark}${spec.name}`"
    :parse="spec.moment ? fromFrame : undefined"
    :describedby="describedby"
    @change="(v) => emit('set', v)"
  />
  <span v-if="fitted" class="beside">fitted</span>
  <span
    v-if="spec.moment"
    v-tip="'A frame may be typed too: f 25'"
    class="beside num"
    :data-testid="`frame-${spec.name}`"
    >{{ asFrame }}</span
  >
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Raw } from '../../api/model'
import SlideTo from '../../controls/SlideTo.vue'
import { shown } from '../../lib/quantity'
import { useRuns } from '../../stores/runs'
import NumberField from '../NumberField.vue'
import { useUnit, type Editing } from './editing'

const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const runs = useRuns()
const unit = useUnit(props)
function slide(v: number) {
  const [low] = props.spec.range
  if (props.spec.open_below && low !== null && v <= low) return
  const next = props.spec.type === 'integer' ? Math.round(v) : Number(v.toPrecision(3))
  if (next !== props.value) emit('set', next)
}
/** A point in time as the frame that is shown then, and back: `f 25`, `frame 25` or `25 f`. */
const asFrame = computed(() => {
  const { start, end, fps, slow_motion } = runs.clock
  const n = start + Number(props.value) * fps * slow_motion
  return n > end ? 'past end' : `f ${shown(Math.round(n * 100) / 100, 6)}`
})
function fromFrame(text: string): number | undefined {
  const found = /^\s*(?:f(?:rame)?\s*(-?[\d.]+)|(-?[\d.]+)\s*f(?:rame)?)\s*$/i.exec(text)
  if (!found) return undefined
  const { start, fps, slow_motion } = runs.clock
  return Number(((Number(found[1] ?? found[2]) - start) / fps / slow_motion).toPrecision(7))
}
</script>

<style scoped>
.beside {
  color: var(--muted);
  font-size: 11px;
  white-space: nowrap;
}
</style>
