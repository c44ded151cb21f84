<template>
  <PointList
    :points="value as [number, number, number][]"
    :testid="`points-${spec.name}`"
    @change="(v) => emit('set', v)"
  />
</template>

<script setup lang="ts">
import type { Raw } from '../../api/model'
import PointList from '../PointList.vue'
import type { Editing } from './editing'

defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
</script>
