<template>
  <div v-for="f in study.doc?.flows" :key="f.id" class="row">
    <TickBox
      :model-value="runs.lookOf(f.id).shown"
      :words="f.name"
      :testid="`shows-${f.id}`"
      @update:model-value="(on) => study.setParam({ kind: 'look', id: f.id }, SHOWN, on, on ? 'on' : 'off')"
    /><v-btn size="small" @click="study.select({ kind: 'lane', id: f.id })">Look</v-btn>
  </div>
</template>

<script setup lang="ts">
import TickBox from '../../controls/TickBox.vue'
import { useRuns } from '../../stores/runs'
import { useStudy } from '../../stores/study'

const SHOWN = { name: 'shown', label: 'Shown', unit: '' }
const study = useStudy()
const runs = useRuns()
</script>
