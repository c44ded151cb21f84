<template>
  <slot :open="() => picker?.click()" />
  <input ref="picker" type="file" hidden :accept="accept" :multiple="several" :data-testid="testid" @change="take" />
</template>

<script setup lang="ts">
import { ref } from 'vue'

/** A file from the disk, or several; what opens the choice stands in the slot. */
defineProps<{ accept: string; testid: string; several?: boolean }>()
const emit = defineEmits<{ file: [file: File, all: File[]] }>()
const picker = ref<HTMLInputElement | null>(null)
function take() {
  const all = [...(picker.value?.files ?? [])]
  if (picker.value) picker.value.value = '' // the same file may be chosen again
  if (all.length) emit('file', all[0], all)
}
defineExpose({ open: () => picker.value?.click() })
</script>
