<template>
  <component
    :is="search ? VAutocomplete : VSelect"
    class="slim pick"
    :model-value="search ? modelValue || null : modelValue"
    :items="listed"
    item-title="name"
    item-value="id"
    :aria-label="label"
    :data-value="modelValue"
    :data-testid="testid"
    :menu-props="{ contentClass: 'picked', maxHeight: 420 }"
    variant="underlined"
    hide-details
    v-bind="search ? { autoSelectFirst: true, placeholder: none } : {}"
    @update:model-value="(v: T | null) => v !== null && v !== modelValue && emit('update:modelValue', v)"
  >
    <template #item="{ props: row, item }"
      ><v-list-item v-bind="row" :title="item.name" density="compact" :data-option="item.id"
    /></template>
  </component>
</template>

<script setup lang="ts" generic="T extends string | number">
import { computed } from 'vue'
import { VAutocomplete, VSelect } from 'vuetify/components'

/** One of several, by id; what is chosen though nobody offers it is shown as it is. */
const props = defineProps<{
  modelValue: T
  items: { id: T; name: string }[]
  label: string
  testid?: string
  none?: string
  /** Of many: found by typing a part of its name. */
  search?: boolean
}>()
const emit = defineEmits<{ 'update:modelValue': [value: T] }>()
const listed = computed(() =>
  props.items.some((i) => i.id === props.modelValue)
    ? props.items
    : props.search && !props.modelValue
      ? props.items
      : [{ id: props.modelValue, name: props.none ?? String(props.modelValue) }, ...props.items],
)
</script>
