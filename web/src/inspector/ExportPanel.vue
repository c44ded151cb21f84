<template>
  <details class="out" data-testid="export">
    <summary>Take away</summary>
    <div class="line">
      <PickOne v-model="field" :items="named(study.doc?.fields)" label="Field to bake" testid="bake-field" />
      on
      <PickOne v-model="region" :items="named(study.doc?.regions)" label="Region" testid="bake-region" />
      <PickOne v-model="format" :items="BAKES" label="Format" testid="bake-format" />
      <v-btn size="small" variant="outlined" :disabled="!field || !region || busy" data-testid="bake" @click="bake"
        >Bake</v-btn
      >
    </div>
    <div class="line">
      <span>{{ runs.run ? `${there} frames of ${runs.run.flow}, ${runs.run.quality}` : 'No run yet' }}</span>
      <PickOne
        v-if="results.length > 1"
        v-model="what"
        :items="results.map((r) => ({ id: r.name, name: r.label }))"
        label="What of the flow"
        testid="export-what"
      />
      <PickOne v-model="points" :items="plain(formats)" label="Format of the sequence" testid="export-format" />
      <v-btn
        size="small"
        variant="outlined"
        :disabled="!runs.run?.frames.length || busy"
        data-testid="export-run"
        @click="sequence"
        >Write</v-btn
      >
    </div>
    <div v-if="study.doc?.shapes.length" class="line">
      <PickOne v-model="shape" :items="named(study.doc?.shapes)" label="Shape to write" testid="shape-file" />
      at this frame
      <PickOne v-model="shapeFormat" :items="plain(SHAPES)" label="Format of the shape" testid="shape-format" />
      <v-btn size="small" variant="outlined" :disabled="!shape || busy" data-testid="write-shape" @click="writeShape"
        >Write</v-btn
      >
    </div>
    <p v-if="said" :class="{ bad }" role="status" data-testid="export-said">{{ said }}</p>
  </details>
</template>

<script setup lang="ts">
import { computed, ref, watchEffect } from 'vue'
import { download } from '../api/client'
import PickOne from '../controls/PickOne.vue'
import { taken } from '../lib/taken'
import { useCatalogue } from '../stores/catalogue'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'

const study = useStudy()
const runs = useRuns()
const listed = useCatalogue()
const named = (all: { id: string; name: string }[] | undefined) => (all ?? []).map(({ id, name }) => ({ id, name }))
const plain = (all: string[]) => all.map((id) => ({ id, name: id }))
const SHAPES = ['obj', 'ply', 'stl', 'usd', 'npz', 'vdb']
const BAKES = [
  ...plain(['vdb', 'npz', 'vti']),
  { id: 'obj', name: 'surface, obj' },
  { id: 'ply', name: 'surface, ply' },
]
const field = ref('')
const region = ref('')
const format = ref('vdb')
const said = ref('')
const bad = ref(false)
const busy = ref(false)
watchEffect(() => {
  if (!study.doc?.fields.some((f) => f.id === field.value)) field.value = study.doc?.fields.at(-1)?.id ?? ''
  if (!study.doc?.regions.some((r) => r.id === region.value)) region.value = study.doc?.regions[0]?.id ?? ''
})
async function work(what: string, job: () => Promise<number>) {
  busy.value = true
  bad.value = false
  said.value = `${what} …`
  try {
    await study.flush()
    said.value = taken(what, await job())
  } catch (error) {
    bad.value = true
    said.value = (error as Error).message
  }
  busy.value = false
}
const bake = () =>
  work(`${field.value}.${format.value}`, () =>
    download('POST', '/bakes', `${field.value}.${format.value}`, {
      study: study.key,
      field: field.value,
      region: region.value,
      time: runs.time,
      format: format.value,
    }),
  )
const shape = ref('')
const shapeFormat = ref('obj')
watchEffect(() => {
  const s = study.selection
  if (s?.kind === 'shape') shape.value = s.id
  else if (!study.doc?.shapes.some((x) => x.id === shape.value)) shape.value = study.doc?.shapes[0]?.id ?? ''
})
const writeShape = () => {
  const name = `${shape.value}.${shapeFormat.value === 'usd' ? 'usdc' : shapeFormat.value}`
  return work(name, () =>
    download('POST', '/shape-files', name, {
      study: study.key,
      shape: shape.value,
      time: runs.time,
      format: shapeFormat.value,
    }),
  )
}
const there = computed(() => runs.run?.frames.filter((f) => f <= runs.clock.end).length ?? 0)
const what = ref('')
const points = ref('')
const results = computed(() => listed.kind(runs.run?.kind)?.results ?? [])
const result = computed(() => results.value.find((r) => r.name === what.value))
const formats = computed(() => result.value?.formats ?? [])
watchEffect(() => {
  if (!result.value) what.value = results.value[0]?.name ?? ''
  if (!formats.value.includes(points.value)) points.value = formats.value[0] ?? ''
})
const sequence = () => {
  const name = `${study.key}_${runs.run!.flow}_${what.value}_${points.value}.zip`
  const path = `/runs/${runs.run!.identity}/export?format=${points.value}&what=${what.value}`
  return work(name, () => download('GET', path, name))
}
</script>

<style scoped>
.out {
  margin-top: 12px;
  border-top: 1px solid var(--line);
  padding-top: 6px;
}
summary {
  cursor: pointer;
  font-weight: 600;
}
.line {
  display: flex;
  gap: 6px;
  align-items: center;
  margin-top: 6px;
  justify-content: space-between;
  flex-wrap: wrap;
}
.line .pick {
  flex: 0 1 96px;
}
.bad {
  color: rgb(var(--v-theme-error)) !important;
}
</style>
