<template>
  <CurveEditor :points="value as [number, number][]" :label="spec.label" :bars="bars" @change="(v) => emit('set', v)" />
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Raw } from '../../api/model'
import { useMeasuring } from '../../stores/measuring'
import { useStudy } from '../../stores/study'
import CurveEditor from '../CurveEditor.vue'
import type { Editing } from './editing'

const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const study = useStudy()
const numbers = useMeasuring()
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
</script>
