<template>
  <v-menu :close-on-content-click="false" location="bottom end">
    <template #activator="{ props: p }"
      ><v-btn
        v-bind="p"
        class="hue"
        :style="{ background: modelValue }"
        :aria-label="`${label}: ${modelValue}`"
        :data-testid="testid"
        :data-value="modelValue"
      />
      <span class="num muted">{{ modelValue.toUpperCase() }}</span></template
    >
    <v-color-picker
      :model-value="modelValue"
      mode="hex"
      :modes="['hex']"
      elevation="2"
      @update:model-value="(v: string) => emit('update:modelValue', v.slice(0, 7).toUpperCase())"
    />
  </v-menu>
</template>

<script setup lang="ts">
/** A colour, `#RRGGBB`. */
defineProps<{ modelValue: string; label: string; testid?: string }>()
const emit = defineEmits<{ 'update:modelValue': [value: string] }>()
</script>

<style scoped>
.hue {
  width: 34px;
  height: 18px;
  min-width: 34px;
  border: 1px solid var(--line);
}
</style>
