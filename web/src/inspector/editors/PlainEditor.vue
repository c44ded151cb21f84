<template>
  <component :is="control.is" v-bind="control.given(props)" @update:model-value="(v: Raw) => emit('set', v)" />
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Raw } from '../../api/model'
import type { Editing } from './editing'
import { controlOf } from './plain'

/** A parameter that one control edits as it is. */
const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const control = computed(() => controlOf(props.spec))
</script>
