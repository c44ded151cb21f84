<template>
  <div class="row">
    <span>Across</span><PickOne v-model="shows.axis" :items="AXES" label="Probe across" testid="probe-axis" />
  </div>
  <div class="row">
    <span>At</span
    ><SlideTo
      v-model="shows.share"
      :low="0"
      :high="1"
      :step="0.005"
      label="Place of the probe"
      testid="probe-share"
    /><NumberField
      :value="look.window.origin[shows.axis]"
      unit="m"
      :label="`Probe at ${'xyz'[shows.axis]}`"
      @change="put"
    />
  </div>
</template>

<script setup lang="ts">
import PickOne from '../../controls/PickOne.vue'
import SlideTo from '../../controls/SlideTo.vue'
import NumberField from '../../inspector/NumberField.vue'
import { useLook } from '../../stores/look'
import { useView } from '../../stores/view'

/** Where the plane of the probe and of the slice stands. */
const AXES = [0, 1, 2].map((id) => ({ id, name: 'xyz'[id] }))
const look = useLook()
const shows = useView()
function put(at: number) {
  const [low, high] = [look.box.lower, look.box.upper].map((b) => b[shows.axis])
  shows.share = Math.max(0, Math.min(1, (at - low) / Math.max(high - low, 1e-9)))
}
</script>
