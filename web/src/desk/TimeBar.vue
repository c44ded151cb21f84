<template>
  <div class="time">
    <v-btn
      v-tip="'Play (Space)'"
      class="plain play"
      :aria-label="runs.playing ? 'Pause' : 'Play'"
      data-testid="play"
      @click="runs.play()"
    >
      <v-icon :icon="runs.playing ? mdiPause : mdiPlay" size="20" />
    </v-btn>
    <span class="num" data-testid="frame">{{ String(runs.frame).padStart(3, '0') }} / {{ clock.end }}</span>
    <span class="num muted">{{ runs.time.toFixed(2) }} s</span>
    <div
      ref="track"
      class="ready"
      role="slider"
      tabindex="0"
      aria-label="Frame"
      :aria-valuenow="runs.frame"
      :aria-valuemin="clock.start"
      :aria-valuemax="clock.end"
      :aria-valuetext="spoken"
      @pointerdown="scrub"
      @pointermove="(e) => e.buttons && scrub(e)"
      @keydown.left.prevent="runs.go(runs.frame - 1)"
      @keydown.right.prevent="runs.go(runs.frame + 1)"
      @keydown.home.prevent="runs.go(clock.start)"
      @keydown.end.prevent="runs.go(clock.end)"
      @keydown.page-down.prevent="runs.go(runs.frame - 10)"
      @keydown.page-up.prevent="runs.go(runs.frame + 10)"
    >
      <i
        v-for="s in spans"
        :key="s[0]"
        :style="{ left: at(s[0] - 0.5), width: `${((s[1] - s[0] + 1) / length) * 100}%` }"
        :class="{ stale: runs.run?.state === 'failed' }"
      />
      <u :style="{ left: at(runs.frame) }" />
    </div>
    <span v-tip="words" class="muted words" data-testid="run-state" role="status">{{ words }}</span>
    <span class="num"
      ><NumberField
        quiet
        class="few"
        :value="clock.fps"
        label="Frames a second"
        :low="0"
        open-below
        :high="240"
        @change="setFps"
      />
      fps</span
    >
    <span v-tip="'Slow motion: times as slow as it happened; the same seconds in more frames'" tabindex="0" class="num"
      ><NumberField
        quiet
        class="few"
        :value="clock.slow_motion"
        label="Slow motion"
        :low="0"
        open-below
        :high="100"
        testid="clock-slow"
        @change="setSlow"
      />
      × slow</span
    >
    <span class="num"
      >end
      <NumberField
        quiet
        class="few"
        integer
        :value="clock.end"
        label="Last frame"
        :low="clock.start"
        :high="clock.start + 99999"
        testid="clock-end"
        @change="setEnd"
    /></span>
  </div>
</template>

<script setup lang="ts">
import { mdiPause, mdiPlay } from '@mdi/js'
import { computed, ref } from 'vue'
import NumberField from '../inspector/NumberField.vue'
import { shown } from '../lib/quantity'
import { inNames } from '../score/places'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'

const runs = useRuns()
const study = useStudy()
const track = ref<HTMLElement | null>(null)
const clock = computed(() => runs.clock)
const spoken = computed(
  () => `frame ${runs.frame}, ${runs.time.toFixed(2)} s${runs.ready.has(runs.frame) ? '' : ', not computed yet'}`,
)
const length = computed(() => clock.value.end - clock.value.start + 1)
const at = (f: number) => `${((f - clock.value.start + 0.5) / length.value) * 100}%`
const spans = computed(() => {
  const out: [number, number][] = []
  for (const f of runs.run?.frames ?? []) {
    if (f > clock.value.end) break
    const last = out.at(-1)
    if (last && last[1] === f - 1) last[1] = f
    else out.push([f, f])
  }
  return out
})
/** How long a frame takes: a quick one in milliseconds, so that it never reads 0.00 s. */
const each = (s: number) => (s < 0.1 ? `${shown(s * 1000, 2)} ms` : `${s.toFixed(2)} s`)
const words = computed(() => {
  if (!runs.connected) return 'no connection; trying again …'
  if (runs.problem) return inNames(runs.problem)
  const r = runs.run
  if (!r) return study.doc?.flows.length ? 'Run to see the flow' : ''
  const n = r.frames.filter((f) => f <= clock.value.end).length
  const left =
    r.left !== null && r.state === 'running' ? ` · ${r.left < 1 ? 'less than 1' : Math.ceil(r.left)} s left` : ''
  const behind = r.message ? `: ${r.message}` : r.behind ? ` for ${r.behind}` : ''
  const state =
    { done: '', running: '', waiting: ` · waiting${behind}`, stopped: ' · stopped', failed: ' · failed' }[r.state] ?? ''
  return `${n} frames ready${r.each ? ` · ${each(r.each)} each` : ''}${left}${state}`
})
function scrub(event: PointerEvent) {
  const r = track.value!.getBoundingClientRect()
  runs.play(false)
  runs.go(clock.value.start + Math.floor(((event.clientX - r.left) / r.width) * length.value))
}
const setFps = (v: number) =>
  study.edit(`Frames a second ${clock.value.fps} → ${v}`, (d) => {
    d.clock.fps = v
  })
const setSlow = (v: number) =>
  study.edit(`Slow motion ${clock.value.slow_motion} → ${v}`, (d) => {
    d.clock.slow_motion = v
  })
const setEnd = (v: number) =>
  study.edit(`Last frame ${clock.value.end} → ${v}`, (d) => {
    d.clock.end = v
  })
</script>

<style scoped>
.time {
  border-top: 1px solid var(--line);
  border-bottom: 1px solid var(--line);
  display: flex;
  align-items: center;
  gap: 11px;
  padding: 0 14px;
  min-width: 0;
}
.ready {
  flex: 1;
  height: 10px;
  background: var(--soft);
  position: relative;
  cursor: pointer;
  touch-action: none;
}
.ready i {
  position: absolute;
  top: 0;
  bottom: 0;
  background: #9fb9af;
}
.ready i.stale {
  background: #d9b38a;
}
.ready u {
  position: absolute;
  top: -4px;
  bottom: -4px;
  width: 2px;
  background: var(--signal);
  margin-left: -1px;
}
.ready {
  min-width: 120px;
}
.words {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  max-width: 46%;
}
.time > .num {
  display: flex;
  align-items: baseline;
  gap: 4px;
  white-space: nowrap;
}
.few :deep(input) {
  width: 30px;
}
.play {
  width: 22px;
}
</style>
