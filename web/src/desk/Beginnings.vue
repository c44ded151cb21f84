<template>
  <div class="begin" data-testid="beginnings">
    <b>How would you begin?</b>
    <button @click="wind">A wind and some particles</button>
    <button @click="obstacle">A stream past a shape</button>
    <button @click="swirl">Swirls that boil</button>
    <span class="muted">or import a mesh with + beside Shapes</span>
  </div>
</template>

<script setup lang="ts">
import type { Params, StudyDoc } from '../api/model'
import { newRegion } from '../lib/regions'
import { useCatalogue } from '../stores/catalogue'
import { useStudy } from '../stores/study'

const study = useStudy()
const listed = useCatalogue()
const step = (id: string, op: string, params: Params) => ({ id, op, on: true, params })
function base(d: StudyDoc) {
  d.shapes.push({
    id: 'source',
    name: 'Source',
    kind: 'box',
    shown: true,
    params: { size: [0.1, 2.4, 1.6], move: [-2.2, 0, 1] },
  })
  d.regions.push(newRegion('space', 'Space', { lower: [-2.5, -2, 0], upper: [2.5, 2, 2.5] }))
}
/** Points that the field carries: of the first kind whose lanes can be carried. */
function flow(d: StudyDoc, field: string) {
  const kind = listed.all.kinds.find((k) => k.begins_with.some((s) => s.op === 'carry'))
  if (!kind) return
  const given: Record<string, Params> = {
    emit: { shape: 'source', where: 'volume', rate: 12000, life: 3 },
    carry: { field },
  }
  const steps = kind.begins_with.map((s) => step(s.op, s.op, { ...s.params, ...given[s.op] }))
  d.flows.push({ id: kind.id, name: kind.label, kind: kind.id, steps })
}
function wind() {
  study.edit('Begin with a wind', (d) => {
    base(d)
    d.fields.push({ id: 'wind', name: 'Wind', steps: [step('wind', 'wind', { speed: 1.5 })] })
    flow(d, 'wind')
  })
}
function obstacle() {
  study.edit('Begin with a stream past a shape', (d) => {
    base(d)
    d.shapes.push({
      id: 'pillar',
      name: 'Pillar',
      kind: 'cylinder',
      shown: true,
      params: { radius: 0.45, height: 2, move: [0, 0, 1] },
    })
    d.fields.push({
      id: 'stream',
      name: 'Stream',
      steps: [
        step('wind', 'wind', { speed: 1.5 }),
        step('steer_around', 'steer_around', { shape: 'pillar', reach: 0.7 }),
      ],
    })
    flow(d, 'stream')
  })
}
function swirl() {
  study.edit('Begin with swirls', (d) => {
    base(d)
    d.fields.push({ id: 'swirls', name: 'Swirls', steps: [step('curl_noise', 'curl_noise', { evolve: 0.3 })] })
    flow(d, 'swirls')
  })
}
</script>

<style scoped>
.begin {
  position: absolute;
  z-index: 3;
  right: 14px;
  bottom: 12px;
  left: 152px;
  display: flex;
  gap: 10px;
  align-items: center;
}
.begin button {
  border: 1px solid rgb(var(--v-theme-primary));
  border-radius: 3px;
  padding: 5px 12px;
}
.begin button:hover {
  background: var(--soft);
}
</style>
