<template>
  <NumberField
    v-for="(v, i) in value as number[]"
    :key="i"
    class="narrow"
    :value="v"
    :unit="unit"
    quiet
    :label="`${spec.label} ${spec.type === 'range' ? ['from', 'to'][i] : 'xyz'[i]}`"
    :testid="`number-${spec.name}-${i}`"
    :describedby="describedby"
    @change="(n) => put(i, n)"
  />
  <span class="unit">{{ unit }}</span>
</template>

<script setup lang="ts">
import type { Raw } from '../../api/model'
import NumberField from '../NumberField.vue'
import { useUnit, type Editing } from './editing'

const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const unit = useUnit(props)
function put(i: number, v: number) {
  const next = [...(props.value as number[])]
  next[i] = v
  emit('set', next)
}
</script>

<style scoped>
.narrow :deep(input) {
  width: 43px;
}
.unit {
  color: var(--muted);
  font-size: 11.5px;
}
</style>
