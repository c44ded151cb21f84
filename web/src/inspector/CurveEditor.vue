<template>
  <div class="wrap">
    <svg
      ref="box"
      class="curve"
      viewBox="-4 -4 208 98"
      role="group"
      :aria-label="`${label}: double-click to add a point, drag or arrow keys to move it, Delete to remove it`"
      @dblclick.self="add"
      @pointermove="move"
      @pointerup="grabbed = -1"
      @pointerleave="grabbed = -1"
    >
      <rect x="0" y="0" width="200" height="90" @dblclick="add" />
      <rect
        v-for="(b, i) in bars ?? []"
        :key="`b${i}`"
        class="bar"
        :x="sx(b.from)"
        :width="Math.max(0.5, sx(b.to) - sx(b.from))"
        :y="90 - 84 * b.height"
        :height="84 * b.height"
      />
      <line v-if="now !== undefined" class="now" :x1="sx(now)" :x2="sx(now)" y1="0" y2="90" />
      <path :d="path" />
      <circle
        v-for="(p, i) in points"
        :key="i"
        :cx="sx(p[0])"
        :cy="sy(p[1])"
        r="4.500"
        tabindex="0"
        :aria-label="`Point ${i + 1}: ${shown(p[0], 3)}, ${shown(p[1], 3)}`"
        :data-testid="`curve-point-${i}`"
        @pointerdown.stop="grabbed = i"
        @dblclick.stop="drop(i)"
        @keydown="keys($event, i)"
        @focus="focused = i"
      />
    </svg>
    <div class="ends num">
      <span>{{ shown(x[0], 3) }}</span><span v-if="points[focused]"
        >{{ shown(points[focused][0], 3) }} → {{ shown(points[focused][1], 3) }}</span
      ><span>{{ shown(x[1], 3) }}</span>
    </div>
  </div>
</template>

<script setup lang="ts">
import { computed, ref } from 'vue'
import { monotone, smooth } from '../lib/spline'
import { shown } from '../lib/quantity'

type Point = [number, number]
export interface Bar {
  from: number
  to: number
  height: number
}
const props = withDefaults(
  defineProps<{
    points: Point[]
    x?: Point
    range?: Point
    bars?: Bar[]
    now?: number
    kind?: 'monotone' | 'smooth' | 'linear' | 'hold'
    held?: boolean
    label?: string
  }>(),
  {
    x: () => [0, 1],
    range: undefined,
    bars: undefined,
    now: undefined,
    kind: 'monotone',
    held: true,
    label: 'Curve',
  },
)
const emit = defineEmits<{ change: [points: Point[]] }>()
const box = ref<SVGSVGElement | null>(null)
const grabbed = ref(-1)
const focused = ref(0)
const y = computed<Point>(() => {
  const ys = props.points.map((p) => p[1])
  const [low, high] = props.range ?? [0, 1]
  const a = Math.min(low, ...ys)
  const b = Math.max(high, ...ys)
  return b > a ? [a, b] : [a - 1, b + 1]
})
const sx = (v: number) =>
  ((Math.max(props.x[0], Math.min(props.x[1], v)) - props.x[0]) / (props.x[1] - props.x[0])) * 200
const sy = (v: number) => 90 - ((v - y.value[0]) / (y.value[1] - y.value[0])) * 90
const path = computed(() => {
  if (props.kind === 'hold')
    return (
      'M' +
      props.points
        .flatMap((p, i) => [
          `${sx(p[0])},${sy(p[1])}`,
          ...(props.points[i + 1] ? [`${sx(props.points[i + 1][0])},${sy(p[1])}`] : []),
        ])
        .join('L')
    )
  const at = props.kind === 'monotone' ? monotone(props.points) : props.kind === 'smooth' ? smooth(props.points) : null
  if (!at) return 'M' + props.points.map((p) => `${sx(p[0])},${sy(p[1])}`).join('L')
  return (
    'M' +
    Array.from({ length: 81 }, (_, i) => props.x[0] + ((props.x[1] - props.x[0]) * i) / 80)
      .map((v) => `${sx(v).toFixed(2)},${sy(at(v)).toFixed(2)}`)
      .join('L')
  )
})
const rounded = (v: number, span: number) => Number(v.toFixed(Math.max(0, 3 - Math.floor(Math.log10(span || 1)))))
function place(event: PointerEvent | MouseEvent): Point {
  const r = box.value!.getBoundingClientRect()
  const u = (((event.clientX - r.left) / r.width) * 208 - 4) / 200
  const v = 1 - (((event.clientY - r.top) / r.height) * 98 - 4) / 90
  const clamp = (t: number) => Math.max(0, Math.min(1, t))
  return [props.x[0] + clamp(u) * (props.x[1] - props.x[0]), y.value[0] + clamp(v) * (y.value[1] - y.value[0])]
}
function put(i: number, to: Point) {
  const next = props.points.map((p) => [...p] as Point)
  const gap = (props.x[1] - props.x[0]) * 0.005
  const ends = props.held && (i === 0 || i === next.length - 1)
  const low = i ? next[i - 1][0] + gap : props.x[0]
  const high = i < next.length - 1 ? next[i + 1][0] - gap : props.x[1]
  next[i] = [
    ends ? next[i][0] : rounded(Math.max(low, Math.min(high, to[0])), props.x[1] - props.x[0]),
    rounded(to[1], y.value[1] - y.value[0]),
  ]
  emit('change', next)
}
function move(event: PointerEvent) {
  if (grabbed.value >= 0) put(grabbed.value, place(event))
}
function add(event: MouseEvent) {
  const p = place(event)
  if (props.points.some((q) => Math.abs(q[0] - p[0]) < (props.x[1] - props.x[0]) * 0.01)) return
  emit(
    'change',
    [...props.points, [rounded(p[0], props.x[1] - props.x[0]), rounded(p[1], y.value[1] - y.value[0])] as Point].sort(
      (a, b) => a[0] - b[0],
    ),
  )
}
function drop(i: number) {
  if (props.points.length > (props.held ? 2 : 1) && !(props.held && (i === 0 || i === props.points.length - 1)))
    emit(
      'change',
      props.points.filter((_, k) => k !== i),
    )
}
function keys(event: KeyboardEvent, i: number) {
  const [px, py] = props.points[i]
  const dx = (props.x[1] - props.x[0]) * 0.01
  const dy = (y.value[1] - y.value[0]) * 0.02
  const moves: Record<string, Point> = {
    ArrowLeft: [px - dx, py],
    ArrowRight: [px + dx, py],
    ArrowUp: [px, py + dy],
    ArrowDown: [px, py - dy],
  }
  if (moves[event.key]) put(i, moves[event.key])
  else if (event.key === 'Delete' || event.key === 'Backspace') drop(i)
  else return
  event.preventDefault()
  event.stopPropagation()
}
</script>

<style scoped>
.wrap {
  width: 100%;
}
.curve {
  width: 100%;
  touch-action: none;
  display: block;
}
rect {
  fill: var(--card);
  stroke: var(--line);
}
.bar {
  fill: var(--soft);
  stroke: none;
  pointer-events: none;
}
.now {
  stroke: var(--signal);
  stroke-dasharray: 2 2;
  pointer-events: none;
}
path {
  fill: none;
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 1.5;
  pointer-events: none;
}
circle {
  fill: var(--signal);
  cursor: grab;
}
.ends {
  display: flex;
  justify-content: space-between;
  font-size: 10.5px;
  color: var(--muted);
}
</style>
