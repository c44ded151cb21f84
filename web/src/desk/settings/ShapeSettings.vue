<template>
  <div v-for="s in study.doc?.shapes" :key="s.id" class="row">
    <TickBox :model-value="s.shown" :words="s.name" @update:model-value="(on) => show(s.id, on)" /><v-btn
      size="small"
      @click="study.select({ kind: 'shape', id: s.id })"
      >Edit</v-btn
    >
  </div>
</template>

<script setup lang="ts">
import { useStudy } from '../../stores/study'
import TickBox from '../../controls/TickBox.vue'

const study = useStudy()
const show = (id: string, on: boolean) =>
  study.edit(on ? 'Show a shape' : 'Hide a shape', (d) => {
    const s = d.shapes.find((x) => x.id === id)
    if (s) s.shown = on
  })
</script>
