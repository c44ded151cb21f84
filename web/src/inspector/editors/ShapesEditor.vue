<template>
  <div class="many" role="group" :aria-label="spec.label">
    <TickBox
      v-for="s in offered"
      :key="s.id"
      :model-value="ids.includes(s.id)"
      :words="s.name"
      @update:model-value="toggle(s.id)"
    />
    <span v-if="!offered.length" class="muted">no shape yet</span>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Raw } from '../../api/model'
import TickBox from '../../controls/TickBox.vue'
import { useLook } from '../../stores/look'
import { useStudy } from '../../stores/study'
import type { Editing } from './editing'

const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const study = useStudy()
const look = useLook()
const offered = computed(() => [
  ...(study.doc?.shapes ?? []),
  ...look.asShapes(props.owner?.kind === 'step' ? props.owner.lane : ''),
])
const ids = computed(() => (Array.isArray(props.value) ? (props.value as string[]) : []))
const toggle = (id: string) =>
  emit('set', ids.value.includes(id) ? ids.value.filter((x) => x !== id) : [...ids.value, id])
</script>

<style scoped>
.many {
  display: grid;
  font-size: 12px;
  width: 100%;
  padding: 3px 0;
}
</style>
