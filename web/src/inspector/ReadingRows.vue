<template>
  <div class="readings" data-testid="readings">
    <span class="muted">{{ r.kind === 'vector' ? 'speed' : 'value' }}</span><span class="num" data-testid="reading-range">{{ shown(r.low, 3) }} … {{ shown(r.high, 3) }} {{ r.unit }}</span>
    <span class="muted">mean · rms</span><span class="num">{{ shown(r.mean, 3) }} · {{ shown(r.rms, 3) }}</span>
    <span class="muted">covers</span><span class="num" :class="{ warn: r.coverage === 0 }">{{ (100 * r.coverage).toFixed(0) }} %</span>
    <template v-if="r.divergence !== null">
      <span class="muted" title="Root mean square divergence times the smallest detail, as a share of the speed">divergence · detail / speed</span>
      <span class="num" :class="r.divergence < 0.01 ? 'good' : r.divergence < 0.15 ? '' : 'warn'" data-testid="reading-divergence">{{ shown(r.divergence, 2) }}</span>
    </template>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { shown } from '../lib/quantity'
import type { Reading } from '../stores/look'

const props = defineProps<{ reading: Reading }>()
const r = computed(() => props.reading)
</script>

<style scoped>
.readings { margin-top: 8px; display: grid; grid-template-columns: 1fr auto; row-gap: 3px; font-size: 12px; }
.good { color: rgb(var(--v-theme-success)); }
.warn { color: rgb(var(--v-theme-warning)); font-weight: 600; }
</style>
