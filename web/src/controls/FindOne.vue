<template>
  <v-autocomplete
    class="slim pick"
    :model-value="modelValue || null"
    :items="listed"
    item-title="name"
    item-value="id"
    :aria-label="label"
    :data-value="modelValue"
    :data-testid="testid"
    :menu-props="{ contentClass: 'picked', maxHeight: 420 }"
    variant="underlined"
    hide-details
    auto-select-first
    :placeholder="none"
    @update:model-value="(v: T | null) => v && v !== modelValue && emit('update:modelValue', v)"
  >
    <template #item="{ props: row, item }"
      ><v-list-item v-bind="row" :title="item.name" density="compact" :data-option="item.id"
    /></template>
  </v-autocomplete>
</template>

<script setup lang="ts" generic="T extends string | number">
import { computed } from 'vue'

/** One of many, found by typing a part of its name. */
const props = defineProps<{
  modelValue: T
  items: { id: T; name: string }[]
  label: string
  testid?: string
  none?: string
}>()
const emit = defineEmits<{ 'update:modelValue': [value: T] }>()
const listed = computed(() =>
  props.items.some((i) => i.id === props.modelValue)
    ? props.items
    : props.modelValue
      ? [{ id: props.modelValue, name: String(props.modelValue) }, ...props.items]
      : props.items,
)
</script>
