<template>
  <canvas v-if="kind !== 'icon'" ref="canvas" :width="SIZE" :height="SIZE" :data-tile="kind" />
  <div v-else class="icon"><v-icon :icon="icon" size="22" /></div>
</template>

<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import type { Lane, Step } from '../api/model'
import { drawnMesh } from '../forms/frames'
import { namedIn, type Role } from '../kinds/roles'
import { paint } from '../lib/colour'
import { useLook } from '../stores/look'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import { iconFor } from './icons'
import { onTile, tileOf, within, type Box } from './tiles'

/** A step of a flow: the slice of the field that it takes, or the flow at this frame with the shapes that it names; its
 * icon until there is a run. */
const props = defineProps<{ lane: Lane; step: Step }>()
const SIZE = 48
const study = useStudy()
const runs = useRuns()
const look = useLook()
const canvas = ref<HTMLCanvasElement | null>(null)
const icon = computed(() => iconFor({ id: props.step.op, kind: '' }))
/** The last step of the field that this one takes. */
const taken = computed(() => {
  const id = props.step.params.field
  const lane = typeof id === 'string' ? study.laneOf(id) : undefined
  const last = lane?.steps.filter((s) => s.on).at(-1)
  const values = last && (look.swatches?.arrays[`${lane!.id}.${last.id}`] as Float32Array | undefined)
  return values?.length === look.size * look.size ? { lane: lane!.id, values } : null
})
const frame = computed(() => runs.shown[props.lane.id] ?? null)
const kind = computed(() => (taken.value ? 'field' : frame.value ? 'flow' : 'icon'))
const regions = computed(() => look.scene?.facts.regions ?? [])
const box = computed<Box>(() => {
  const named = props.lane.steps.map((s) => s.params.region).find((r) => typeof r === 'string')
  return regions.value.find((r) => r.id === named) ?? look.box
})
/** Boxes of the shapes that the step names, and whether they bring something in. */
const named = computed(() => {
  const entry = study.entry(props.step.op, props.lane.id)
  const of = (role: Role) => namedIn(entry, props.step.params, role)
  const [emit, block] = [of('emits'), of('blocks')]
  return (look.scene?.facts.shapes ?? [])
    .filter((s) => s.bounded && [...emit, ...block].includes(s.id))
    .map((s) => ({ ...s, emits: emit.includes(s.id) }))
})
function draw() {
  const c = canvas.value?.getContext('2d')
  if (!c) return
  if (taken.value) {
    const { lane, values } = taken.value
    const pixels = paint(values, look.size, look.size, look.laneMapping(lane))
    const whole = new OffscreenCanvas(look.size, look.size)
    whole.getContext('2d')!.putImageData(new ImageData(pixels, look.size, look.size), 0, 0)
    const [x, y, side] = within(look.swatches!.facts.window, box.value).map((share) => share * look.size)
    c.drawImage(whole, x, y, side, side, 0, 0, SIZE, SIZE)
    return
  }
  if (!frame.value) return
  const mesh = drawnMesh(runs.drawn[props.lane.id])
  c.putImageData(tileOf(frame.value, mesh, runs.lookOf(props.lane.id), box.value, SIZE), 0, 0)
  const at = onTile(box.value, SIZE)
  for (const s of named.value) {
    const [x0, y1] = at(s.lower[0], s.lower[2])
    const [x1, y0] = at(s.upper[0], s.upper[2])
    c.strokeStyle = s.emits ? '#F08A6E' : '#E9E2D2'
    c.strokeRect(Math.round(x0) + 0.5, Math.round(y0) + 0.5, Math.round(x1 - x0), Math.round(y1 - y0))
  }
}
onMounted(draw)
watch([taken, frame, () => runs.drawn[props.lane.id], box, named, canvas], () => !runs.playing && draw(), {
  flush: 'post',
})
watch(
  () => runs.playing,
  (on) => !on && draw(),
)
</script>

<style scoped>
.icon {
  display: grid;
  place-items: center;
  width: 48px;
  height: 48px;
  background: #0f1b2d;
  color: #f5f0e6;
}
</style>
