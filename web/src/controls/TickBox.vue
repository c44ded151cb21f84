<template>
  <v-checkbox-btn
    ref="box"
    class="slim tick"
    :model-value="modelValue"
    :label="words"
    :aria-label="words ? undefined : label"
    :disabled="disabled"
    density="compact"
    @update:model-value="(v: unknown) => emit('update:modelValue', !!v)"
  />
</template>

<script setup lang="ts">
import { useInput } from './useInput'

/** On or off. `words` stand beside it; without them `label` says what it is. */
const props = defineProps<{
  modelValue: boolean
  words?: string
  label?: string
  testid?: string
  disabled?: boolean
  describedby?: string
}>()
const emit = defineEmits<{ 'update:modelValue': [value: boolean] }>()
const { box } = useInput(() => ({ 'data-testid': props.testid, 'aria-describedby': props.describedby }))
void box
</script>
