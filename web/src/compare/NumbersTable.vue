<template>
  <table class="numbers" data-testid="compare-numbers" aria-label="Numbers of each picture">
    <thead>
      <tr>
        <th />
        <th>least</th>
        <th>most</th>
        <th>mean</th>
        <th>in all, × m³</th>
        <th>fills</th>
        <th>middle at, m</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(row, i) in rows" :key="i" :data-testid="`numbers-${i}`">
        <th>{{ String.fromCharCode(65 + i) }} · {{ row.name }}</th>
        <template v-if="row.found">
          <td class="num">{{ shown(row.found.low) }}</td>
          <td class="num">{{ shown(row.found.high) }} {{ row.unit }}</td>
          <td class="num">{{ shown(row.found.mean) }}</td>
          <td class="num">
            {{
              row.found.total == null
                ? `${row.found.count.toLocaleString('en')} ${row.counted}`
                : shown(row.found.total)
            }}
          </td>
          <td class="num">{{ row.found.cover == null ? '' : `${shown(row.found.cover, 3)} m³` }}</td>
          <td class="num">{{ row.found.centre ? row.found.centre.map((v) => v.toFixed(2)).join(' ') : '' }}</td>
        </template>
        <td v-else colspan="6" class="muted">…</td>
      </tr>
      <tr v-if="difference" data-testid="numbers-difference">
        <th>B − A</th>
        <td v-if="volume?.same" colspan="6">the same, to the last bit</td>
        <td v-else-if="volume" class="num" colspan="6">
          greatest {{ shown(volume.greatest) }} ({{ (100 * volume.share).toFixed(0) }} % of the range) at
          {{ volume.at.map((v) => v.toFixed(2)).join(' ') }} · rms {{ shown(volume.rms) }} · mean
          {{ shown(volume.mean) }}
        </td>
        <td v-else-if="points" class="num" colspan="6">
          {{ points.both.toLocaleString('en') }} in both · apart by {{ shown(points.mean) }} m in the mean,
          {{ shown(points.greatest) }} m at most
        </td>
      </tr>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { shown } from '../lib/quantity'
import type { Numbers, PointsDifference, VolumeDifference } from '../api/model'

const props = defineProps<{
  rows: { name: string; unit: string; counted: string; found: Numbers | null }[]
  difference: VolumeDifference | PointsDifference | null
}>()
const volume = computed(() => (props.difference && 'at' in props.difference ? props.difference : null))
const points = computed(() => (props.difference && 'both' in props.difference ? props.difference : null))
</script>

<style scoped>
.numbers {
  border-collapse: collapse;
  font-size: 12px;
  width: 100%;
}
th {
  text-align: left;
  font-weight: 400;
  color: var(--muted);
  padding: 1px 10px 1px 0;
  white-space: nowrap;
}
tbody th {
  color: inherit;
  max-width: 300px;
  overflow: hidden;
  text-overflow: ellipsis;
}
td {
  padding: 1px 14px 1px 0;
  white-space: nowrap;
}
tbody tr {
  border-top: 1px solid var(--soft);
}
</style>
