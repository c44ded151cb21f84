<template>
  <slot :open="() => picker?.click()" />
  <input ref="picker" type="file" hidden :accept="accept" :data-testid="testid" @change="take" />
</template>

<script setup lang="ts">
import { ref } from 'vue'

/** A file from the disk; what opens the choice stands in the slot. */
defineProps<{ accept: string; testid: string }>()
const emit = defineEmits<{ file: [file: File] }>()
const picker = ref<HTMLInputElement | null>(null)
function take() {
  const file = picker.value?.files?.[0]
  if (picker.value) picker.value.value = '' // the same file may be chosen again
  if (file) emit('file', file)
}
defineExpose({ open: () => picker.value?.click() })
</script>
