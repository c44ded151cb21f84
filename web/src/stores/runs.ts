/** Runs of the open study: events from the server, frames, the clock. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { ApiError, arrays, call } from '../api/client'
import type { RunOut } from '../api/types'
import { useStudy } from './study'

export interface Frame { identity: string; frame: number; count: number; position: Float32Array; velocity: Float32Array; age: Float32Array; life: Float32Array }
const KEPT = 400 << 20

export const useRuns = defineStore('runs', () => {
  const study = useStudy()
  const runs = ref<RunOut[]>([])
  const frame = ref(1)
  const playing = ref(false)
  const connected = ref(true)
  const quality = ref<'preview' | 'full'>('preview')
  const wanted = ref<string | null>(null)
  const current = shallowRef<Frame | null>(null)
  const problem = ref('')
  const frames = new Map<string, Frame>()
  let kept = 0
  let source: EventSource | null = null
  let rest = 0

  const clock = computed(() => study.doc?.clock ?? { fps: 24, start: 1, end: 120, slow_motion: 1 })
  const time = computed(() => (frame.value - clock.value.start) / (clock.value.fps * clock.value.slow_motion))
  const run = computed(() => runs.value.find((r) => r.identity === wanted.value) ?? null)
  const ready = computed(() => new Set(run.value?.frames ?? []))
  const stale = computed(() => !!current.value && current.value.identity !== wanted.value)

  function open(key: string, at: number) {
    close()
    frame.value = at
    source = new EventSource(`/api/events?study=${encodeURIComponent(key)}`)
    source.onmessage = (event) => {
      connected.value = true
      const said = JSON.parse(event.data) as { runs: RunOut[] }
      runs.value = said.runs
    }
    source.onerror = () => { connected.value = false }
  }
  function close() {
    source?.close()
    source = null
    playing.value = false
    runs.value = []
    current.value = null
    wanted.value = null
    frames.clear()
    kept = 0
  }
  /** Start (or find) the run of the first flow as the study stands. */
  async function start(as: 'preview' | 'full' = quality.value) {
    await study.flush()
    const flow = study.doc?.flows[0]
    if (!flow) { problem.value = 'There is no flow to run; add a particle lane'; return }
    try {
      const made = await call<RunOut>('POST', '/runs', { study: study.key, flow: flow.id, quality: as })
      quality.value = as
      wanted.value = made.identity
      if (!runs.value.some((r) => r.identity === made.identity)) runs.value = [made, ...runs.value]
      problem.value = made.state === 'failed' ? made.message : ''
    } catch (error) {
      problem.value = (error as Error).message
      if (!(error instanceof ApiError)) connected.value = false
    }
  }
  async function stop() {
    if (run.value) await call<RunOut>('POST', `/runs/${run.value.identity}/stop`)
  }
  watch(() => study.savedCount, () => {
    if (!wanted.value || quality.value !== 'preview') return
    clearTimeout(rest)
    rest = window.setTimeout(() => void start('preview'), 350)
  })
  watch(() => run.value?.state, (s) => { if (s === 'failed') problem.value = run.value?.message ?? '' })

  async function show(identity: string, n: number) {
    const name = `${identity}/${n}`
    let found = frames.get(name)
    if (!found) {
      const { facts, arrays: a } = await arrays<{ count: number }>(`/runs/${identity}/frames/${n}`)
      found = { identity, frame: n, count: facts.count, position: a.position as Float32Array, velocity: a.velocity as Float32Array, age: a.age as Float32Array, life: a.life as Float32Array }
      frames.set(name, found)
      kept += found.count * 32
      for (const [old, f] of frames) {
        if (kept < KEPT) break
        frames.delete(old)
        kept -= f.count * 32
      }
    }
    if (identity === wanted.value && n === frame.value) current.value = found
  }
  watch([frame, wanted, () => run.value?.frames.length], () => {
    if (wanted.value && ready.value.has(frame.value)) void show(wanted.value, frame.value).catch(() => undefined)
  }, { immediate: true })

  let last = 0
  function tick(now: number) {
    if (!playing.value) return
    const each = 1000 / clock.value.fps
    if (now - last >= each) {
      last = now - ((now - last) % each)
      const shownNow = current.value?.frame === frame.value || !ready.value.has(frame.value)
      if (shownNow) {
        const end = Math.max(clock.value.start, ...(run.value?.frames ?? [clock.value.end]))
        const next = frame.value >= end ? clock.value.start : frame.value + 1
        if (ready.value.has(next) || !run.value) frame.value = next
      }
    }
    requestAnimationFrame(tick)
  }
  function play(on = !playing.value) {
    if (on && !playing.value) {
      playing.value = true
      requestAnimationFrame(tick)
    } else playing.value = on
  }
  function go(n: number) { frame.value = Math.max(clock.value.start, Math.min(clock.value.end, Math.round(n))) }
  return { runs, frame, time, clock, playing, connected, quality, wanted, run, ready, stale, current, problem, open, close, start, stop, play, go }
})
