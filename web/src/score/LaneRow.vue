<template>
  <div class="lane" :data-testid="`lane-${lane.id}`">
    <div class="h" :class="{ sel: study.selection?.kind === 'lane' && study.selection.id === lane.id }">
      <input class="name" :value="lane.name" :aria-label="`Name of ${lane.name}`" @change="rename" @keydown.enter="($event.target as HTMLInputElement).blur()" @focus="study.select({ kind: 'lane', id: lane.id })" />
      <span>{{ summary }}</span>
      <button class="x" title="Remove this lane" aria-label="Remove this lane" @click="remove">×</button>
    </div>
    <div class="steps">
      <template v-for="(step, i) in lane.steps" :key="step.id">
        <span v-if="i" class="then" aria-hidden="true">›</span>
        <StepCard :lane="lane" :step="step" draggable="true" @dragstart="drag($event, step.id)" @dragover.prevent @drop.prevent="drop($event, step.id)" />
      </template>
      <AddStep :lane="lane" :after="lastStep" />
      <span v-if="!lane.steps.length" class="muted">{{ flow ? 'begin with Emit' : 'begin with a start: Wind, Curl noise, Distance …' }}</span>
      <span v-if="error" class="bad" :title="error">{{ error }}</span>
    </div>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Lane } from '../api/types'
import { useLook } from '../stores/look'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import AddStep from './AddStep.vue'
import StepCard from './StepCard.vue'
import { removeUses, usesOf } from './uses'

const props = defineProps<{ lane: Lane }>()
const study = useStudy()
const look = useLook()
const runs = useRuns()
const flow = computed(() => study.isFlow(props.lane.id))
const lastStep = computed(() => props.lane.steps.at(-1)?.id ?? null)
const last = computed(() => look.swatches?.facts.steps.filter((s) => s.lane === props.lane.id).at(-1))
const error = computed(() => Object.entries(look.swatches?.facts.errors ?? {}).find(([k]) => k === `fields.${props.lane.id}` || k.startsWith(`fields.${props.lane.id}.`))?.[1])
const summary = computed(() => {
  if (flow.value) return runs.current ? `particles · ${runs.current.count.toLocaleString('en')}` : 'particles'
  return last.value ? `${last.value.kind}${last.value.unit ? ` · ${last.value.unit}` : ''}` : 'field'
})
function rename(event: Event) {
  const name = (event.target as HTMLInputElement).value.trim()
  if (!name || name === props.lane.name) return
  study.edit(`Rename ${props.lane.name} to ${name}`, (d) => { [...d.fields, ...d.flows].find((l) => l.id === props.lane.id)!.name = name })
}
function remove() {
  const uses = usesOf(study.doc!, 'lane', props.lane.id)
  if (uses.length && !confirm(`${props.lane.name} is used by ${uses.join(', ')}. Remove it and these uses?`)) return
  study.edit(`Remove ${props.lane.name}`, (d) => {
    removeUses(d, 'lane', props.lane.id)
    d.fields = d.fields.filter((l) => l.id !== props.lane.id)
    d.flows = d.flows.filter((l) => l.id !== props.lane.id)
  })
  study.select(null)
}
function drag(event: DragEvent, id: string) {
  event.dataTransfer?.setData('text/plain', `${props.lane.id}/${id}`)
}
function drop(event: DragEvent, onto: string) {
  const [lane, id] = (event.dataTransfer?.getData('text/plain') ?? '').split('/')
  if (lane !== props.lane.id || id === onto) return
  study.edit('Reorder steps', (d) => {
    const steps = [...d.fields, ...d.flows].find((l) => l.id === lane)!.steps
    const from = steps.findIndex((s) => s.id === id)
    const to = steps.findIndex((s) => s.id === onto)
    steps.splice(to, 0, ...steps.splice(from, 1))
  })
}
</script>

<style scoped>
.name { font-weight: 600; width: 108px; background: none; border: 0; color: inherit; font-size: 13px; display: block; }
.then { color: var(--muted); width: 16px; text-align: center; flex: none; }
.h .x { position: absolute; right: 6px; top: 6px; visibility: hidden; color: var(--muted); font-size: 15px; }
.h:hover .x, .h:focus-within .x { visibility: visible; }
.h.sel { box-shadow: inset 2px 0 0 var(--signal); }
.bad { margin-left: 8px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
</style>
