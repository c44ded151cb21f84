<template>
  <svg ref="box" class="curve" viewBox="-4 -4 208 98" role="img" aria-label="Curve: click to add a point, drag to move, double-click to remove" @dblclick.self="add" @pointermove="move" @pointerup="grabbed = -1" @pointerleave="grabbed = -1">
    <rect x="0" y="0" width="200" height="90" />
    <path :d="path" />
    <circle v-for="(p, i) in points" :key="i" :cx="p[0] * 200" :cy="90 - p[1] * 90" r="4.500" tabindex="0" @pointerdown.stop="grabbed = i" @dblclick.stop="drop(i)" />
  </svg>
</template>

<script setup lang="ts">
import { computed, ref } from 'vue'

const props = defineProps<{ points: [number, number][] }>()
const emit = defineEmits<{ change: [points: [number, number][]] }>()
const box = ref<SVGSVGElement | null>(null)
const grabbed = ref(-1)
const path = computed(() => 'M' + props.points.map((p) => `${p[0] * 200},${90 - p[1] * 90}`).join('L'))
function at(event: PointerEvent | MouseEvent): [number, number] {
  const r = box.value!.getBoundingClientRect()
  const x = (((event.clientX - r.left) / r.width) * 208 - 4) / 200
  const y = 1 - (((event.clientY - r.top) / r.height) * 98 - 4) / 90
  return [Math.max(0, Math.min(1, x)), Math.max(0, Math.min(1, y))]
}
function move(event: PointerEvent) {
  const i = grabbed.value
  if (i < 0) return
  const next = props.points.map((p) => [...p] as [number, number])
  const [x, y] = at(event)
  const low = i ? next[i - 1][0] + 0.01 : 0
  const high = i < next.length - 1 ? next[i + 1][0] - 0.01 : 1
  next[i] = [i === 0 ? 0 : i === next.length - 1 ? 1 : Number(Math.max(low, Math.min(high, x)).toFixed(3)), Number(y.toFixed(3))]
  emit('change', next)
}
function add(event: MouseEvent) {
  const p = at(event)
  if (props.points.some((q) => Math.abs(q[0] - p[0]) < 0.01)) return
  emit('change', [...props.points, p].sort((a, b) => a[0] - b[0]))
}
function drop(i: number) {
  if (i > 0 && i < props.points.length - 1) emit('change', props.points.filter((_, k) => k !== i))
}
</script>

<style scoped>
.curve { width: 100%; touch-action: none; }
rect { fill: var(--card); stroke: var(--line); }
path { fill: none; stroke: rgb(var(--v-theme-primary)); stroke-width: 1.500; pointer-events: none; }
circle { fill: var(--signal); cursor: grab; }
</style>
