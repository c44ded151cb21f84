<template>
  <v-menu v-model="open" :close-on-content-click="false" location="top start">
    <template #activator="{ props: p }"><button class="plus" v-bind="p" :aria-label="`Add a step to ${lane.name}`" :data-testid="`add-${lane.id}`">+</button></template>
    <v-card width="420" max-height="420" class="adder">
      <input v-model="query" class="find" placeholder="Search steps" aria-label="Search steps" autofocus data-testid="find-step" @keydown.enter="pickFirst" @keydown.esc="open = false" />
      <div class="list">
        <button v-for="e in found" :key="e.id" class="item" :disabled="!!e.why" :data-testid="`op-${e.id}`" @click="add(e)">
          <span class="ic"><v-icon :icon="iconFor(e)" size="18" /></span>
          <span><b>{{ e.label }}</b> <i class="muted">{{ e.kind }}</i><small>{{ e.why || e.yields }}</small></span>
        </button>
        <p v-if="!found.length" class="muted">No step is called that.</p>
      </div>
    </v-card>
  </v-menu>
</template>

<script setup lang="ts">
import { mdiArrowDecision, mdiCreation, mdiPlusCircleOutline, mdiRecordCircleOutline, mdiTuneVariant } from '@mdi/js'
import { computed, ref } from 'vue'
import type { Entry, Lane, Params } from '../api/types'
import { useLook } from '../stores/look'
import { freshId, useStudy } from '../stores/study'
import { opener } from './opener'
import { watch } from 'vue'

const props = defineProps<{ lane: Lane; after: string | null }>()
const study = useStudy()
const look = useLook()
const open = ref(false)
const query = ref('')
const flow = computed(() => study.isFlow(props.lane.id))
const iconFor = (e: Entry) => ({ start: mdiRecordCircleOutline, change: mdiTuneVariant, join: mdiPlusCircleOutline, emit: mdiCreation })[e.kind] ?? mdiArrowDecision
/** What comes out at the end of the lane now. */
const kind = computed(() => {
  const steps = look.swatches?.facts.steps.filter((s) => s.lane === props.lane.id)
  return props.lane.steps.some((s) => s.on) ? (steps?.at(-1)?.kind ?? 'any') : 'nothing'
})
const others = computed(() => study.doc!.fields.filter((f) => f.id !== props.lane.id))
function reason(e: Entry): string {
  if (flow.value) {
    if (e.kind === 'emit' && !study.doc!.shapes.length) return 'there is no shape yet to emit from'
    if (e.id === 'carry' && !study.doc!.fields.length) return 'there is no field yet'
    return ''
  }
  if (e.accepts === 'nothing' && kind.value !== 'nothing') return 'begins a lane'
  if (e.accepts !== 'nothing' && kind.value === 'nothing') return 'needs a field before it'
  if ((e.accepts === 'scalar' || e.accepts === 'vector') && kind.value !== 'any' && e.accepts !== kind.value) return `takes a ${e.accepts}; this lane is a ${kind.value}`
  for (const p of e.params) if (p.required) {
    if ((p.type === 'shape' || p.type === 'shapes') && !study.doc!.shapes.length) return 'there is no shape yet'
    if (p.name === 'curve' && !study.doc!.shapes.some((x) => x.kind === 'curve')) return 'there is no curve yet; add one beside Shapes'
    if (p.type === 'region' && !study.doc!.regions.length) return 'there is no region yet'
    if (p.type === 'flow' && !study.doc!.flows.length) return 'there is no particle flow yet'
    if (p.type === 'field' && !others.value.length) return 'there is no other lane yet'
  }
  return ''
}
const found = computed(() => {
  const words = query.value.toLowerCase().split(/\s+/).filter(Boolean)
  return study.catalogue.steps
    .filter((e) => e.lane === (flow.value ? 'particles' : 'field'))
    .filter((e) => words.every((w) => `${e.label} ${e.yields} ${e.kind}`.toLowerCase().includes(w)))
    .map((e) => ({ ...e, why: reason(e) }))
    .sort((a, b) => Number(!!a.why) - Number(!!b.why))
})
function pickFirst() {
  const first = found.value.find((e) => !e.why)
  if (first) add(first)
}
function add(e: Entry) {
  const params: Params = {}
  const doc = study.doc!
  const obstacle = doc.shapes.find((s) => s.kind === 'mesh') ?? doc.shapes[0]
  const curve = doc.shapes.find((s) => s.kind === 'curve')
  for (const p of e.params) if (p.required) {
    if (p.type === 'shape') params[p.name] = (p.name === 'curve' ? curve : e.id === 'emit' ? (doc.shapes.find((s) => s.kind !== 'mesh') ?? doc.shapes[0]) : obstacle)?.id ?? obstacle.id
    else if (p.type === 'shapes') params[p.name] = [doc.shapes[0].id]
    else if (p.type === 'region') params[p.name] = doc.regions[0].id
    else if (p.type === 'flow') params[p.name] = doc.flows[0].id
    else if (p.type === 'field') {
      const kinds = Object.fromEntries((look.swatches?.facts.steps ?? []).map((s) => [s.lane, s.kind]))
      const scalar = ['multiply', 'mask'].includes(e.id) || p.name === 'where'
      const want = scalar ? 'scalar' : e.id === 'warp' || flow.value ? 'vector' : e.kind === 'join' ? kind.value : ''
      const lanes = flow.value ? doc.fields : others.value
      params[p.name] = ([...lanes].reverse().find((l) => !want || kinds[l.id] === want) ?? lanes.at(-1)!).id
    }
  }
  const id = freshId(e.id, props.lane.steps.map((s) => s.id))
  study.edit(`Add ${e.label}`, (d) => {
    [...d.fields, ...d.flows].find((l) => l.id === props.lane.id)!.steps.push({ id, op: e.id, on: true, params })
  })
  study.select({ kind: 'step', lane: props.lane.id, id })
  open.value = false
  query.value = ''
}
watch(opener, (lane) => { if (lane === props.lane.id) { open.value = true; opener.value = '' } })
</script>

<style scoped>
.adder { display: flex; flex-direction: column; padding: 8px; }
.find { border: 1px solid var(--line); border-radius: 3px; padding: 5px 10px; margin-bottom: 6px; background: var(--card); color: inherit; }
.list { overflow: auto; }
.item { display: grid; grid-template-columns: 30px 1fr; text-align: left; width: 100%; padding: 4px 6px; border-radius: 3px; align-items: center; color: inherit; }
.item:hover:not(:disabled) { background: var(--soft); }
.item:disabled { opacity: 0.55; }
.item small { display: block; color: var(--muted); }
.item i { font-style: normal; font-size: 11px; }
</style>
