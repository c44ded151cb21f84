<template>
  <v-slider
    class="slim slide"
    :model-value="modelValue"
    :min="low"
    :max="high"
    :step="step ?? (high - low) / 200"
    :aria-label="label"
    :data-testid="testid"
    :data-value="modelValue"
    hide-details
    @update:model-value="(v: number) => emit('update:modelValue', v)"
  />
</template>

<script setup lang="ts">
/** A number by hand; never the only way to it. */
defineProps<{ modelValue: number; low: number; high: number; step?: number; label: string; testid?: string }>()
const emit = defineEmits<{ 'update:modelValue': [value: number] }>()
</script>
