<template>
  <div
    class="lane"
    :class="{ small: folded }"
    :data-testid="`lane-${lane.id}`"
    @dragover.prevent
    @drop.prevent="dropAtEnd"
  >
    <div class="h" :class="{ sel: study.selection?.kind === 'lane' && study.selection.id === lane.id }">
      <TextLine
        class="name"
        :model-value="lane.name"
        :label="`Name of ${lane.name}`"
        @update:model-value="rename"
        @focused="study.select({ kind: 'lane', id: lane.id })"
      />
      <span>{{ summary }}</span>
      <v-btn
        v-tip="folded ? 'Unfold this lane' : 'Fold this lane'"
        class="plain fold"
        :aria-label="folded ? 'Unfold this lane' : 'Fold this lane'"
        :aria-expanded="!folded"
        :data-testid="`fold-${lane.id}`"
        @click="toggleFold"
      >
        {{ folded ? '▸' : '▾' }}
      </v-btn>
      <v-btn v-tip="'Remove this lane'" class="plain x" aria-label="Remove this lane" @click="remove">×</v-btn>
    </div>
    <v-btn v-if="folded" class="plain folded muted" @click="toggleFold">
      {{ lane.steps.length }} {{ lane.steps.length === 1 ? 'step' : 'steps' }}:
      {{ lane.steps.map((s) => study.entry(s.op, lane.id)?.label ?? s.op).join(' › ') || 'none' }}
    </v-btn>
    <div v-else class="steps">
      <template v-for="(step, i) in lane.steps" :key="step.id">
        <span v-if="i" class="then" aria-hidden="true">›</span>
        <StepCard
          :lane="lane"
          :step="step"
          draggable="true"
          @dragstart="drag($event, step.id)"
          @dragover.prevent
          @drop.prevent="drop($event, step.id)"
        />
      </template>
      <AddStep :lane="lane" :after="lastStep" />
      <template v-if="!lane.steps.length && kind">
        <v-btn
          v-tip="notYet || `Adds ${beginning}`"
          class="plain begin"
          :disabled="!!notYet"
          :data-testid="`begin-${lane.id}`"
          @click="beginWith(lane, kind)"
        >
          begin with {{ beginning }}
        </v-btn>
        <span v-if="notYet" class="muted">{{ notYet }}</span>
      </template>
      <span v-else-if="!lane.steps.length" class="muted">begin with a start: Wind, Curl noise, Distance …</span>
      <span v-if="error" v-tip="error" class="bad" tabindex="0" :data-testid="`error-${lane.id}`">{{ error }}</span>
    </div>
  </div>
</template>

<script setup lang="ts">
import { storeToRefs } from 'pinia'
import { computed } from 'vue'
import type { Lane } from '../api/model'
import TextLine from '../controls/TextLine.vue'
import { useLook } from '../stores/look'
import { useCatalogue } from '../stores/catalogue'
import { useRuns } from '../stores/runs'
import { freshId } from '../lib/fresh'
import { useStudy } from '../stores/study'
import AddStep from './AddStep.vue'
import { beginWith, whyNotBegin } from './adding'
import StepCard from './StepCard.vue'
import { removeUses, usesOf } from './uses'
import { useDesk } from '../stores/desk'

const props = defineProps<{ lane: Lane }>()
const study = useStudy()
const { foldedLanes } = storeToRefs(useDesk())
const look = useLook()
const runs = useRuns()
const listed = useCatalogue()
const flow = computed(() => study.isFlow(props.lane.id))
const kind = computed(() => listed.kindOf(props.lane))
const beginning = computed(() =>
  (kind.value?.begins_with ?? []).map((s) => listed.step(s.op, props.lane)?.label ?? s.op).join(' › '),
)
const notYet = computed(() => (kind.value ? whyNotBegin(props.lane, kind.value) : ''))
const lastStep = computed(() => props.lane.steps.at(-1)?.id ?? null)
const last = computed(() => look.swatches?.facts.steps.filter((s) => s.lane === props.lane.id).at(-1))
const error = computed(
  () =>
    Object.entries(look.swatches?.facts.errors ?? {}).find(
      ([k]) => k === `fields.${props.lane.id}` || k.startsWith(`fields.${props.lane.id}.`),
    )?.[1] || (flow.value ? runs.failureOf(props.lane.id) : ''),
)
const summary = computed(() => {
  if (flow.value) {
    const { label = props.lane.kind ?? '', unit = '' } = kind.value ?? {}
    const n = runs.shown[props.lane.id]?.count
    const what = label.toLowerCase()
    return n === undefined ? what : `${what} · ${n.toLocaleString('en')}${what === unit ? '' : ` ${unit}`}`
  }
  return last.value ? `${last.value.kind}${last.value.unit ? ` · ${last.value.unit}` : ''}` : 'field'
})
const folded = computed(() => foldedLanes.value.has(`${study.key}/${props.lane.id}`))
function toggleFold() {
  const next = new Set(foldedLanes.value)
  const name = `${study.key}/${props.lane.id}`
  if (next.has(name)) next.delete(name)
  else next.add(name)
  foldedLanes.value = next
}
function rename(typed: string) {
  const name = typed.trim()
  if (!name || name === props.lane.name) return
  study.edit(`Rename ${props.lane.name} to ${name}`, (d) => {
    ;[...d.fields, ...d.flows].find((l) => l.id === props.lane.id)!.name = name
  })
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
/** A card is dropped on another one: before it in this lane, or copied into it from another lane of the same kind. */
function drop(event: DragEvent, onto: string) {
  event.stopPropagation()
  place(event, onto)
}
function dropAtEnd(event: DragEvent) {
  place(event, null)
}
function place(event: DragEvent, onto: string | null) {
  const [from, id] = (event.dataTransfer?.getData('text/plain') ?? '').split('/')
  if (!from || !id || id === onto || study.isFlow(from) !== flow.value) return
  const label = study.entry(study.laneOf(from)?.steps.find((s) => s.id === id)?.op ?? '', from)?.label ?? 'a step'
  let made = id
  study.edit(from === props.lane.id ? `Move ${label}` : `Copy ${label} to ${props.lane.name}`, (d) => {
    const all = [...d.fields, ...d.flows]
    const source = all.find((l) => l.id === from)!.steps
    const into = all.find((l) => l.id === props.lane.id)!.steps
    const step = source.find((s) => s.id === id)!
    if (from === props.lane.id) source.splice(source.indexOf(step), 1)
    made =
      from === props.lane.id
        ? id
        : freshId(
            step.op,
            into.map((s) => s.id),
          )
    const at = onto ? into.findIndex((s) => s.id === onto) : into.length
    into.splice(at < 0 ? into.length : at, 0, from === props.lane.id ? step : { ...structuredClone(step), id: made })
  })
  study.select({ kind: 'step', lane: props.lane.id, id: made })
}
</script>

<style scoped>
.name {
  font-weight: 600;
  width: 108px;
  background: none;
  border: 0;
  color: inherit;
  font-size: 13px;
  display: block;
}
.then {
  color: var(--muted);
  width: 16px;
  text-align: center;
  flex: none;
}
.begin {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 2px 10px;
  margin-right: 8px;
  white-space: nowrap;
}
.begin:hover:not(:disabled) {
  background: var(--soft);
}
.begin:disabled {
  color: var(--muted);
}
.fold {
  position: absolute;
  right: 6px;
  bottom: 5px;
  color: var(--muted);
  font-size: 11px;
}
.folded {
  text-align: left;
  padding: 0 12px;
  font-size: 12px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.lane.small {
  min-height: 38px;
}
.h .x {
  position: absolute;
  right: 6px;
  top: 6px;
  visibility: hidden;
  color: var(--muted);
  font-size: 15px;
}
.h:hover .x,
.h:focus-within .x {
  visibility: visible;
}
.h.sel {
  box-shadow: inset 2px 0 0 var(--signal);
}
.bad {
  margin-left: 8px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
