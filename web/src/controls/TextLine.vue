<template>
  <v-text-field
    ref="box"
    class="slim line"
    :model-value="text"
    :placeholder="placeholder"
    :aria-label="label"
    :prepend-inner-icon="icon"
    variant="underlined"
    hide-details
    spellcheck="false"
    @update:model-value="typed"
    @change="emit('update:modelValue', text)"
    @update:focused="(on: boolean) => on && emit('focused')"
    @keydown.enter="leave"
  />
</template>

<script setup lang="ts">
import { ref, watch } from 'vue'
import { useInput } from './useInput'

/** Words: told as they are typed (`input`) and when they are done. */
const props = defineProps<{
  modelValue: string
  label: string
  testid?: string
  placeholder?: string
  icon?: string
  describedby?: string
  /** Enter does not leave the field. */
  stays?: boolean
}>()
const emit = defineEmits<{ 'update:modelValue': [value: string]; input: [value: string]; focused: [] }>()
const text = ref(props.modelValue)
watch(
  () => props.modelValue,
  (v) => {
    text.value = v
  },
)
const { box, input } = useInput(() => ({ 'data-testid': props.testid, 'aria-describedby': props.describedby }))
function typed(v: string) {
  text.value = v
  emit('input', v)
}
function leave() {
  if (!props.stays) input()?.blur()
}
defineExpose({ input })
void box
</script>
