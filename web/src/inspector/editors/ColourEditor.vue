<template>
  <HueBox
    :model-value="String(value)"
    :label="spec.label"
    :testid="`look-${spec.name}`"
    @update:model-value="(v) => emit('set', v)"
  />
</template>

<script setup lang="ts">
import type { Raw } from '../../api/model'
import HueBox from '../../controls/HueBox.vue'
import type { Editing } from './editing'

defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
</script>
