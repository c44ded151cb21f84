<template>
  <span
    v-if="words"
    v-tip="whole"
    class="cost num muted"
    role="note"
    tabindex="0"
    :aria-label="whole"
    data-testid="run-cost"
    >{{ words }}</span
  >
</template>

<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { newest } from '../api/client'
import type { Cost } from '../api/model'
import { bytes, long } from '../lib/quantity'
import { useLook } from '../stores/look'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'

/** What the run that the button would start costs, by frames that were measured. */
const study = useStudy()
const runs = useRuns()
const look = useLook()
const costs = ref<Record<string, Cost>>({})
const cost = computed(() => {
  const c = costs.value[runs.main]
  return c && !c.error ? c : null
})
const words = computed(() => {
  const c = cost.value
  if (!c) return ''
  if (!c.frames) return 'all there'
  return c.seconds === null ? bytes(c.memory) : `≈ ${long(c.seconds)} · ${bytes(c.memory)}`
})
const whole = computed(() => {
  const c = cost.value
  if (!c) return ''
  const upTo = `up to ${c.count.toLocaleString('en')} ${c.unit}`
  const most = `${c.frames} frames to compute, ${upTo}, ${bytes(c.memory)} of memory`
  return c.seconds === null || c.disk === null
    ? `${most}; how long it takes is known once some frames are there`
    : `${most}, about ${long(c.seconds)} and ${bytes(c.disk)} on disk, by ${c.measured} frames of ${c.basis}`
})
let rest = 0
watch(
  () => [study.doc, runs.quality, runs.run?.state, (runs.run?.frames.length ?? 0) >> 3],
  () => {
    clearTimeout(rest)
    rest = window.setTimeout(async () => {
      if (!study.doc?.flows.length) return
      const answer = await newest('cost', '/look/estimate', { ...look.body(), quality: runs.quality }).catch(() => null)
      if (answer) costs.value = (await answer.json()) as Record<string, Cost>
    }, 900)
  },
  { immediate: true },
)
</script>

<style scoped>
.cost {
  white-space: nowrap;
  font-size: 12px;
}
</style>
