<template>
  <TickBox
    :model-value="!!value"
    :label="spec.label"
    :testid="mark ? `look-${spec.name}` : `switch-${spec.name}`"
    :describedby="describedby"
    @update:model-value="(v) => emit('set', v)"
  />
</template>

<script setup lang="ts">
import type { Raw } from '../../api/model'
import TickBox from '../../controls/TickBox.vue'
import type { Editing } from './editing'

defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
</script>
