<template>
  <section v-if="rows.length" class="look" aria-label="How the flow is drawn" data-testid="look-rows">
    <h3>Look</h3>
    <ParamRow
      v-for="p in rows"
      :key="p.name"
      :spec="p"
      :raw="raw[p.name]"
      :owner="owner"
      :auto="fitted[p.name]"
      :channels="channels"
    />
    <div v-if="mapped" class="bar" :style="{ background: gradient }" />
    <p v-if="facts" class="muted" data-testid="flow-facts">{{ facts }}</p>
    <p class="muted">A look is never part of a run: nothing is computed anew.</p>
  </section>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Params, ParamSpec } from '../api/model'
import { channelsOf } from '../forms/channels'
import { partOf } from '../forms/frames'
import { applies } from '../lib/applies'
import { gradientCss } from '../lib/colour'
import { shown } from '../lib/quantity'
import { useCatalogue } from '../stores/catalogue'
import { useRuns } from '../stores/runs'
import { useStudy, type Owner } from '../stores/study'
import ParamRow from './ParamRow.vue'

const props = defineProps<{ flow: string }>()
const study = useStudy()
const runs = useRuns()
const listed = useCatalogue()
const owner = computed<Owner>(() => ({ kind: 'look', id: props.flow }))
const kind = computed(() => listed.kindOf(study.laneOf(props.flow)))
const how = computed(() => runs.lookOf(props.flow))
const raw = computed(() => (study.doc?.looks[props.flow] ?? {}) as Params)
const frame = computed(() => runs.shown[props.flow])
/** Whether a step of the lane draws a surface: how it looks matters only then. */
const drawsMesh = computed(() => {
  const lane = study.laneOf(props.flow)
  if (!lane) return false
  const drawn = new Set(listed.stepsOf(lane).flatMap((e) => (e.kind === 'drawn' ? [e.id] : [])))
  return lane.steps.some((s) => s.on && drawn.has(s.op))
})
/** Rows of all forms that frames hold, each name once, as far as they apply. */
const rows = computed<ParamSpec[]>(() => {
  // how a surface is drawn comes first: the points are seldom looked at where there is one
  const forms = listed
    .formsOf(kind.value?.id)
    .filter((form) => form !== 'mesh' || drawsMesh.value || listed.offers(kind.value?.id, 'mesh'))
    .sort((a, b) => Number(b === 'mesh') - Number(a === 'mesh'))
  const all = forms.flatMap((form) => kind.value?.looks[form] ?? [])
  const once = all.filter((p, i) => all.findIndex((q) => q.name === p.name) === i)
  const now = how.value as unknown as Record<string, unknown>
  return once.filter((p) => applies(p, (name) => now[name]))
})
const names = computed(() => [...(frame.value?.names ?? []), ...(runs.drawn[props.flow]?.facts.mesh?.names ?? [])])
const channels = computed(() => channelsOf(names.value, runs.formOf(props.flow), how.value.colour))
const told = (v: number) => Number(v.toPrecision(4))
/** What an end of the range is while it is fitted to the frame. */
const fitted = computed<Record<string, number>>(() => ({
  low: { speed: 0, direction: -180 }[how.value.colour] ?? told(frame.value?.low ?? 0),
  high: how.value.colour === 'direction' ? 180 : told(frame.value?.high ?? 1),
}))
const mapped = computed(() => rows.value.some((p) => p.name === 'map'))
const gradient = computed(() =>
  how.value.map === 'mix'
    ? `linear-gradient(90deg, ${how.value.first}, ${how.value.last})`
    : gradientCss(how.value.map),
)
const facts = computed(() => {
  const volume = partOf(frame.value, 'volume')?.head
  if (!volume) return ''
  const size = `${volume.count.toLocaleString('en')} voxels of ${shown(volume.voxel_size, 3)} m in the window`
  return `${size} · density to ${shown(volume.tops.density, 3)} · ${shown(volume.tops.temperature, 3)} K`
})
</script>

<style scoped>
.look {
  border-top: 1px solid var(--line);
  margin-top: 10px;
  padding-top: 6px;
}
h3 {
  font-size: 13px;
  margin: 0;
}
.bar {
  height: 7px;
  margin: 5px 0;
}
</style>
