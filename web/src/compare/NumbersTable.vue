<template>
  <table class="numbers" data-testid="compare-numbers" aria-label="Numbers of each picture">
    <thead><tr><th /><th>least</th><th>most</th><th>mean</th><th>in all, × m³</th><th>fills</th><th>middle at, m</th></tr></thead>
    <tbody>
      <tr v-for="(row, i) in rows" :key="i" :data-testid="`numbers-${i}`"><th>{{ String.fromCharCode(65 + i) }} · {{ row.name }}</th>
        <template v-if="row.found">
          <td class="num">{{ shown(row.found.low) }}</td><td class="num">{{ shown(row.found.high) }} {{ row.unit }}</td><td class="num">{{ shown(row.found.mean) }}</td>
          <td class="num">{{ row.found.total == null ? `${row.found.count.toLocaleString('en')} particles` : shown(row.found.total) }}</td>
          <td class="num">{{ row.found.cover == null ? '' : `${shown(row.found.cover, 3)} m³` }}</td>
          <td class="num">{{ row.found.centre ? row.found.centre.map((v) => v.toFixed(2)).join(' ') : '' }}</td>
        </template>
        <td v-else colspan="6" class="muted">…</td></tr>
      <tr v-if="difference" data-testid="numbers-difference"><th>B − A</th>
        <td v-if="gas?.same" colspan="6">the same, to the last bit</td>
        <td v-else-if="gas" class="num" colspan="6">greatest {{ shown(gas.greatest) }} ({{ (100 * gas.share).toFixed(0) }} % of the range) at {{ gas.at.map((v) => v.toFixed(2)).join(' ') }} · rms {{ shown(gas.rms) }} · mean {{ shown(gas.mean) }}</td>
        <td v-else-if="particles" class="num" colspan="6">{{ particles.both.toLocaleString('en') }} in both · apart by {{ shown(particles.mean) }} m in the mean, {{ shown(particles.greatest) }} m at most</td></tr>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { shown } from '../lib/quantity'
import type { Difference } from '../stores/volumes'
import type { components } from '../api/schema'

const props = defineProps<{ rows: { name: string; unit: string; found: components['schemas']['NumbersOut'] | null }[]; difference: Difference | Record<string, number> | null }>()
const gas = computed(() => (props.difference && 'at' in props.difference ? (props.difference as Difference) : null))
const particles = computed(() => (props.difference && !('at' in props.difference) ? (props.difference as Record<string, number>) : null))
</script>

<style scoped>
.numbers { border-collapse: collapse; font-size: 12px; width: 100%; }
th { text-align: left; font-weight: 400; color: var(--muted); padding: 1px 10px 1px 0; white-space: nowrap; }
tbody th { color: inherit; max-width: 300px; overflow: hidden; text-overflow: ellipsis; }
td { padding: 1px 14px 1px 0; white-space: nowrap; }
tbody tr { border-top: 1px solid var(--soft); }
</style>
