<template>
  <p v-if="!r || measuring" class="muted" data-testid="measuring">measuring …</p>
  <div v-if="r" class="readings" data-testid="readings">
    <span v-if="r.remark" class="remark muted" data-testid="reading-remark">{{ r.remark }}</span>
    <span class="over muted" data-testid="reading-over">{{ over }}</span>
    <span class="muted">{{ r.kind === 'vector' ? 'speed' : 'value' }}</span><span
      class="num"
      data-testid="reading-range"
      >{{ shown(r.low, 3) }} … {{ shown(r.high, 3) }} {{ r.unit }}</span
    >
    <span class="muted">mean · rms</span><span class="num">{{ shown(r.mean, 3) }} · {{ shown(r.rms, 3) }}</span>
    <span class="muted">covers</span
    ><span class="num" :class="{ warn: r.coverage === 0 }">{{ (100 * r.coverage).toFixed(0) }} %</span>
    <template v-for="t in r.through" :key="t.shape">
      <span v-tip="told(t)" class="muted" tabindex="0"
        >most {{ t.side === 'around' ? 'into' : 'out of' }} {{ called(t.shape) }}</span
      >
      <span class="num" :class="t.share > 0.02 ? 'warn' : 'good'" :data-testid="`reading-through-${t.shape}`"
        >{{ shown(t.speed, 2) }} {{ r.unit }}</span
      >
    </template>
    <template v-if="r.divergence !== null">
      <span
        v-tip="`Root mean square divergence times the size of a ${r.per}, as a share of the speed`"
        class="muted"
        tabindex="0"
        >divergence · {{ r.per }} / speed</span
      >
      <span
        class="num"
        :class="r.divergence < 0.01 ? 'good' : r.divergence < 0.15 ? '' : 'warn'"
        data-testid="reading-divergence"
        >{{ shown(r.divergence * r.per_size, 2) }}</span
      >
    </template>
    <template v-if="r.bunching !== null && r.travel !== null">
      <span
        v-tip="'Density that a typical particle sees after this travel, if they begin evenly spread; 1 is even'"
        class="muted"
        >bunching after {{ shown(r.travel, 2) }} m</span
      >
      <span
        class="num"
        :class="r.bunching < 1.1 ? 'good' : r.bunching < 1.6 ? '' : 'warn'"
        data-testid="reading-bunching"
        >{{ shown(r.bunching, 3) }}</span
      >
    </template>
    <template v-if="r.solved">
      <span v-tip="'Root mean square net flow of a voxel, as a share of the speed'" class="muted" tabindex="0"
        >solved, {{ r.solved.iterations }} cycles</span
      >
      <span class="num good" data-testid="reading-solved"
        >{{ shown(r.solved.before, 2) }} → {{ shown(r.solved.after, 2) }}</span
      >
    </template>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { shown } from '../lib/quantity'
import { useLook } from '../stores/look'
import { useStudy } from '../stores/study'
import { useView } from '../stores/view'
import type { Reading } from '../api/model'

const props = defineProps<{ reading: Reading | null; measuring: boolean }>()
const study = useStudy()
const look = useLook()
const shows = useView()
const r = computed(() => props.reading)
const called = (id: string) => study.doc?.shapes.find((s) => s.id === id)?.name || id
type Through = Reading['through'][number]
const told = (t: Through) =>
  `The most that goes through its surface, at ${t.at.map((c) => shown(c, 3)).join(', ')} m; more than a twentieth ` +
  `of the speed there on ${(100 * t.share).toFixed(0)} % of it`
const over = computed(() => {
  if (r.value?.over === 'surface') return `on the surface of ${called(look.onShape)}`
  if (r.value?.over === 'plane')
    return `on the probe's plane, ${'xyz'[shows.axis]} ${shown(look.window.origin[shows.axis], 3)} m`
  return 'in the whole region'
})
</script>

<style scoped>
.readings {
  margin-top: 8px;
  display: grid;
  grid-template-columns: 1fr auto;
  row-gap: 3px;
  font-size: 12px;
}
.remark,
.over {
  grid-column: 1 / -1;
}
.good {
  color: rgb(var(--v-theme-success));
}
.warn {
  color: rgb(var(--v-theme-warning));
  font-weight: 600;
}
</style>
