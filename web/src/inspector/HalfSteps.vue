<template>
  <div v-if="said.length" class="halves" data-testid="halves">
    <span
      v-tip="
        'How far half steps would put a particle elsewhere on the way to the next frame: the error of the substeps'
      "
      class="muted head"
      tabindex="0"
      >half steps move, of {{ shown(1e3 * said[0].way, 3) }} mm a frame</span
    >
    <template v-for="h in said" :key="h.substeps">
      <span class="muted">{{ h.substeps }} substep{{ h.substeps > 1 ? 's' : '' }}</span>
      <span class="num" :data-testid="`halves-${h.substeps}`"
        >{{ shown(1e3 * h.middle, 2) }} mm, at most {{ shown(1e3 * h.most, 2) }} mm</span
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

/** What the substeps of a flow gain, told on the frame that stands still. */
const props = defineProps<{ flow: string }>()
const REST = 400
const runs = useRuns()
const said = ref<Halved[]>([])
const place = computed(() => {
  const run = runs.runOf(props.flow)
  const still = !runs.playing && !runs.following && runs.isFresh(props.flow)
  return run && still && runs.shown[props.flow]?.frame === runs.frame
    ? `/runs/${run.identity}/halves/${runs.frame}`
    : ''
})
let waits = 0
watch(
  place,
  (path) => {
    clearTimeout(waits)
    if (!path) return
    waits = window.setTimeout(() => {
      void call<Halved[]>('GET', path)
        .then((made) => {
          if (path === place.value) said.value = made
        })
        .catch(() => {
          said.value = [] // it is told where runs are
        })
    }, REST)
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
.head {
  grid-column: 1 / -1;
}
</style>
