<template>
  <div v-if="!itself && place && !said.length" class="exact">
    <span class="muted" data-testid="halves-said">{{
      busy ? 'The frame is computed twice more …' : problem || 'How exact is this frame?'
    }}</span>
    <v-btn
      v-tip="'How far half steps would move things until the next frame: the error of the substeps'"
      size="small"
      variant="outlined"
      :disabled="busy"
      data-testid="measure-halves"
      @click="measure"
      >Half steps</v-btn
    >
  </div>
  <div v-if="said.length" class="halves" data-testid="halves">
    <span v-tip="tip" class="muted head" tabindex="0"
      >half steps move, of {{ shown(1e3 * said[0].way, 3) }} mm a frame</span
    >
    <template v-for="h in said" :key="h.substeps">
      <span class="muted">{{ h.substeps }} substep{{ h.substeps > 1 ? 's' : '' }}</span>
      <span class="num" :data-testid="`halves-${h.substeps}`"
        >{{ shown(1e3 * h.middle, 2) }} mm ({{ shown(100 * h.share, 2) }} %), at most
        {{ shown(1e3 * h.most, 2) }} mm</span
      >
    </template>
  </div>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { call } from '../api/client'
import type { Halved } from '../api/model'
import { shown } from '../lib/quantity'
import { useRuns } from '../stores/runs'

/** What the substeps of a flow gain, told on the frame that stands still: by itself where that takes a moment, else if
 * it is asked for. */
const props = defineProps<{ flow: string; itself: boolean }>()
const REST = 400
const runs = useRuns()
const said = ref<Halved[]>([])
const tip = computed(
  () =>
    `How far half steps would put the middle one of ${said.value[0].count.toLocaleString('en')} ${said.value[0].of} ` +
    'elsewhere on the way to the next frame: the error of the substeps',
)
const busy = ref(false)
const problem = ref('')
const place = computed(() => {
  const run = runs.runOf(props.flow)
  const still = !runs.playing && !runs.following && runs.isFresh(props.flow)
  return run && still && runs.shown[props.flow]?.frame === runs.frame
    ? `/runs/${run.identity}/halves/${runs.frame}`
    : ''
})
async function measure() {
  const path = place.value
  busy.value = true
  problem.value = ''
  try {
    const made = await call<Halved[]>('GET', path)
    if (path !== place.value) return
    said.value = made
    if (!made.length) problem.value = 'nothing lasts from this frame to the next'
  } catch (error) {
    said.value = []
    problem.value = (error as Error).message
  } finally {
    busy.value = false
  }
}
let waits = 0
watch(
  place,
  (path) => {
    clearTimeout(waits)
    problem.value = ''
    if (!props.itself)
      said.value = [] // of another frame
    else if (path) waits = window.setTimeout(() => void measure(), REST)
  },
  { immediate: true },
)
watch(
  () => props.flow,
  () => {
    said.value = []
  },
)
onBeforeUnmount(() => clearTimeout(waits))
</script>

<style scoped>
.halves {
  margin-top: 8px;
  display: grid;
  grid-template-columns: 1fr auto;
  row-gap: 3px;
  font-size: 12px;
}
.exact {
  margin-top: 8px;
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 8px;
  font-size: 12px;
}
.head {
  grid-column: 1 / -1;
}
</style>
