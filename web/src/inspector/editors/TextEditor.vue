<template>
  <TextLine
    class="text"
    :class="{ num: spec.name === 'expression' }"
    :value="String(value)"
    :label="spec.label"
    :testid="`text-${spec.name}`"
    :describedby="describedby"
    @change="(v) => emit('set', v)"
  />
</template>

<script setup lang="ts">
import type { Raw } from '../../api/model'
import TextLine from '../../controls/TextLine.vue'
import type { Editing } from './editing'

defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
</script>

<style scoped>
.text {
  width: 100%;
}
.text :deep(input) {
  text-align: right;
}
</style>
