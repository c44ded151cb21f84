<template>
  <div class="keys">
    <div v-for="(k, i) in keys.keys" :key="i" class="key">
      <NumberField
        :value="k[0]"
        unit="s"
        :label="`${spec.label}, time of key ${i + 1}`"
        @change="(t) => put(i, 0, t)"
      />
      <NumberField
        v-if="typeof k[1] === 'number'"
        :value="k[1]"
        :unit="spec.unit"
        :label="`${spec.label}, key ${i + 1}`"
        :low="spec.range[0]"
        :high="spec.range[1]"
        @change="(v) => put(i, 1, v)"
      />
      <template v-else
        ><NumberField
          v-for="a in 3"
          :key="a"
          :value="k[1][a - 1]"
          :unit="unit"
          :quiet="a < 3"
          :label="`${spec.label} ${'xyz'[a - 1]}, key ${i + 1}`"
          @change="(v) => putAxis(i, a - 1, v)"
      /></template>
      <v-btn class="plain" aria-label="Remove this key" @click="drop(i)">×</v-btn>
    </div>
    <CurveEditor
      v-if="numbers"
      :points="numbers"
      :x="[0, seconds]"
      :range="range"
      :kind="keys.between ?? 'smooth'"
      :held="false"
      :now="runs.time"
      :label="`${spec.label} over time`"
      @change="(points) => emit('set', { ...keys, keys: points })"
    />
    <PickOne
      :model-value="keys.between ?? 'smooth'"
      :items="BETWEEN"
      :label="`${spec.label}, between keys`"
      @update:model-value="(v) => emit('set', { ...keys, between: v as Keys['between'] })"
    />
    <v-btn class="plain link" @click="add">+ key at {{ shown(runs.time, 3) }} s</v-btn>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Keys, Raw } from '../../api/model'
import PickOne from '../../controls/PickOne.vue'
import { shown } from '../../lib/quantity'
import { useRuns } from '../../stores/runs'
import CurveEditor from '../CurveEditor.vue'
import NumberField from '../NumberField.vue'
import { useUnit, type Editing } from './editing'

/** A value that changes over time: its keys as numbers and as a curve. */
const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const BETWEEN = ['smooth', 'linear', 'hold'].map((id) => ({ id, name: id }))
const runs = useRuns()
const unit = useUnit(props)
const keys = computed(() => props.value as Keys)
const numbers = computed(() =>
  keys.value.keys.every((k) => typeof k[1] === 'number') ? (keys.value.keys as [number, number][]) : null,
)
const seconds = computed(() =>
  Math.max(
    (runs.clock.end - runs.clock.start) / (runs.clock.fps * runs.clock.slow_motion),
    ...keys.value.keys.map((k) => k[0]),
  ),
)
const range = computed<[number, number]>(
  () =>
    props.spec.slider ?? [
      Math.min(0, ...(numbers.value ?? [[0, 0]]).map((k) => k[1])),
      Math.max(1, ...(numbers.value ?? [[0, 1]]).map((k) => k[1])),
    ],
)
function changed(change: (k: Keys['keys']) => void) {
  const next = structuredClone(props.value) as Keys
  change(next.keys)
  next.keys.sort((a, b) => a[0] - b[0])
  next.keys = next.keys.filter((k, i) => i === 0 || k[0] > next.keys[i - 1][0])
  emit('set', next)
}
const put = (i: number, part: 0 | 1, v: number) =>
  changed((k) => {
    k[i][part] = v
  })
const putAxis = (i: number, a: number, v: number) =>
  changed((k) => {
    ;(k[i][1] as number[])[a] = v
  })
const add = () =>
  changed((k) => {
    const v = k.at(-1)![1]
    k.push([Number(runs.time.toFixed(4)), Array.isArray(v) ? [...v] : v])
  })
const drop = (i: number) =>
  changed((k) => {
    if (k.length > 1) k.splice(i, 1)
  })
</script>

<style scoped>
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
