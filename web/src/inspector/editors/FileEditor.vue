<template>
  <FileField :value="String(value)" :sort="spec.files[0]" :label="spec.label" @change="(v) => emit('set', v)" />
</template>

<script setup lang="ts">
import type { Raw } from '../../api/model'
import FileField from '../FileField.vue'
import type { Editing } from './editing'

defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
</script>
