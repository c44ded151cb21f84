<template>
  <div class="points" :data-testid="testid">
    <div v-for="(p, i) in points" :key="i" class="p">
      <span class="muted">{{ i + 1 }}</span>
      <NumberField
        v-for="a in 3"
        :key="a"
        class="narrow"
        quiet
        :value="p[a - 1]"
        :label="`Point ${i + 1} ${'xyz'[a - 1]}`"
        @change="(v) => put(i, a - 1, v)"
      />
      <v-btn
        v-tip="'Add a point after this one'"
        class="plain"
        :aria-label="`Add a point after point ${i + 1}`"
        @click="add(i)"
      >
        +
      </v-btn>
      <v-btn
        v-tip="'Remove'"
        class="plain"
        :disabled="points.length <= 2"
        :aria-label="`Remove point ${i + 1}`"
        @click="drop(i)"
      >
        ×
      </v-btn>
    </div>
    <v-btn class="plain link" data-testid="add-point" @click="add(points.length - 1)">+ point</v-btn>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Vec3 } from '../api/model'
import NumberField from './NumberField.vue'

const props = defineProps<{ modelValue: Vec3[]; testid?: string }>()
const emit = defineEmits<{ 'update:modelValue': [points: Vec3[]] }>()
const points = computed(() => props.modelValue)
const copy = () => props.modelValue.map((p) => [...p] as Vec3)
function put(i: number, a: number, v: number) {
  const next = copy()
  next[i][a] = v
  emit('update:modelValue', next)
}
function add(i: number) {
  const next = copy()
  const here = next[i]
  const after = next[i + 1]
  const before = next[i - 1] ?? here
  const made = after
    ? here.map((v, a) => (v + after[a]) / 2)
    : here.map((v, a) => v + (before === here ? (a === 0 ? 0.5 : 0) : v - before[a]))
  next.splice(i + 1, 0, made.map((v) => Number(v.toFixed(4))) as Vec3)
  emit('update:modelValue', next)
}
function drop(i: number) {
  const next = copy()
  next.splice(i, 1)
  emit('update:modelValue', next)
}
</script>

<style scoped>
.points {
  display: grid;
  gap: 1px;
  justify-items: end;
  padding: 3px 0;
  max-height: 210px;
  overflow: auto;
}
.p {
  display: flex;
  gap: 5px;
  align-items: baseline;
}
.p .muted {
  width: 16px;
  text-align: right;
  font-size: 11px;
}
.p {
  gap: 3px;
}
.narrow :deep(input) {
  width: 44px;
  padding: 1px 2px;
}
.p button {
  width: 14px;
}
.link {
  color: var(--muted);
  font-size: 11.5px;
  text-decoration: underline;
}
button:disabled {
  opacity: 0.3;
}
</style>
