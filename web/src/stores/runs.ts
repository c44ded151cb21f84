/** Runs of the open study: events from the server, frames, the clock. */
import { defineStore } from 'pinia'
import { computed, onScopeDispose, ref, shallowRef, watch } from 'vue'
import { ApiError, call, newestArrays, type Packed } from '../api/client'
import type { DrawnHead, FlowLook, RunOut } from '../api/model'
import { loadFrame, nameOf, sizeOf, type Frame } from '../forms/frames'
import { followRuns } from '../lib/events'
import { afterwards, callOff, lasting } from '../lib/rest'
import { seen } from '../lib/seen'
import { areDrawn, keepMeshes, knownMeshes } from '../scene/instances'
import { useCatalogue } from './catalogue'
import { useStudy } from './study'

type Drawn = Packed<DrawnHead>
const KEPT = 400 << 20
const GOES = ['waiting', 'running']
const NOTHING = 'There is no flow to run; add a flow and steps to it'

export const useRuns = defineStore('runs', () => {
  const study = useStudy()
  const listed = useCatalogue()
  const runs = ref<RunOut[]>([])
  const frame = ref(1)
  const playing = ref(false)
  const connected = ref(true)
  const quality = ref<'preview' | 'full'>('preview')
  /** Whether the newest frame of a run that goes on is shown as it comes; until somebody chooses a frame. */
  const following = ref(false)
  /** Somebody chose a frame while flows were there: a run that begins by itself later leaves him where he is. */
  let chosen = false
  /** The run that each flow should show, and the frame and the drawn lines of each that are shown. */
  const wanted = ref<Record<string, string>>({})
  const shown = shallowRef<Record<string, Frame>>({})
  const drawn = shallowRef<Record<string, Drawn>>({})
  const problem = ref('')
  /** Why the run of a flow could not begin. */
  const refused = ref<Record<string, string>>({})
  const frames = new Map<string, Frame>()
  let kept = 0
  /** Surfaces by all that they are made from. */
  const meshes = new Map<string, Drawn>()
  let held = 0
  const bytesOf = (d: Drawn) => Object.values(d.arrays).reduce((sum, a) => sum + a.byteLength, 0)
  let unfollow = () => {}
  let rest = 0

  const clock = computed(() => study.doc?.clock ?? { fps: 24, start: 1, end: 120, slow_motion: 1 })
  const time = computed(() => (frame.value - clock.value.start) / (clock.value.fps * clock.value.slow_motion))
  /** The flow that time bar, checks and export speak of: the selected one, else the first. */
  const main = computed(() => {
    const flows = study.doc?.flows ?? []
    const s = study.selection
    const lane = s?.kind === 'lane' ? s.id : s?.kind === 'step' ? s.lane : ''
    return (flows.find((f) => f.id === lane) ?? flows[0])?.id ?? ''
  })
  const runOf = (flow: string) => runs.value.find((r) => r.identity === wanted.value[flow]) ?? null
  const run = computed(() => runOf(main.value))
  const ready = computed(() => new Set(run.value?.frames ?? []))
  const current = computed(() => shown.value[main.value] ?? null)
  const isStale = (flow: string) => !!shown.value[flow] && shown.value[flow].identity !== wanted.value[flow]
  const stale = computed(() => (study.doc?.flows ?? []).some((f) => isStale(f.id)))
  const kindOf = (flow: string) => study.laneOf(flow)?.kind
  const formOf = (flow: string) => listed.mainOf(kindOf(flow))?.form
  const light = computed(() => listed.lightOf(study.doc))
  const lookOf = (flow: string): FlowLook => ({
    ...listed.plainLook(kindOf(flow)),
    ...study.doc?.looks[flow],
    key: [light.value.azimuth, light.value.height],
  })

  /** What runs depend on, and what it was when they were last asked for: looks and names are no part of it. */
  const signature = computed(() => {
    const d = study.doc
    return d ? JSON.stringify([d.shapes, d.regions, d.fields, d.flows, d.clock]) : ''
  })
  const asked = ref('')
  /** Whether runs were asked for: they then follow what is saved, also where there was no flow at first. */
  const wanting = ref(false)
  /** Whether the frame of a flow is there for what its lane says now. */
  const isFresh = (flow: string) => asked.value === signature.value && !!runOf(flow)?.frames.includes(frame.value)

  function open(key: string, at: number) {
    close()
    frame.value = at
    chosen = false
    following.value = at === clock.value.start // no frame was worth opening on
    unfollow = followRuns(
      key,
      (told) => (runs.value = told),
      (is) => (connected.value = !is),
    )
  }
  function close() {
    unfollow()
    wanting.value = following.value = false
    playing.value = false
    runs.value = []
    shown.value = {}
    drawn.value = {}
    wanted.value = {}
    frames.clear()
    meshes.clear()
    kept = held = 0
  }
  /** Run by hand: what comes is looked at. What is all there already is played if its first frame stands. */
  async function runNow(as: 'preview' | 'full' = quality.value) {
    following.value = true
    chosen = false
    await start(as)
    const made = run.value
    if (made && made.state === 'done' && frame.value === clock.value.start && made.frames.length > 1) play(true)
  }
  /** Start (or find) the runs of all flows as the study stands, that of the main one first; of a lane that `byItself`
   * cannot begin yet nothing is said. */
  async function start(as: 'preview' | 'full' = quality.value, byItself = false) {
    quality.value = as // at once: who chooses another while this waits keeps it
    await study.flush()
    const now = signature.value
    const flows = (study.doc?.flows ?? []).filter((f) => f.steps.length).map((f) => f.id)
    for (const old of Object.keys(wanted.value)) if (!flows.includes(old)) forget(old)
    wanting.value = true
    if (!flows.length) {
      problem.value = NOTHING
      return
    }
    if (problem.value === NOTHING) problem.value = ''
    const failed: string[] = []
    const why: Record<string, string> = {}
    for (const flow of [...flows].sort((a, b) => Number(b === main.value) - Number(a === main.value))) {
      try {
        const made = await call<RunOut>('POST', '/runs', { study: study.key, flow, quality: as })
        wanted.value = { ...wanted.value, [flow]: made.identity }
        if (!runs.value.some((r) => r.identity === made.identity)) runs.value = [made, ...runs.value]
        if (made.state === 'failed') failed.push(made.message)
      } catch (error) {
        if (byItself && error instanceof ApiError && !wanted.value[flow] && !refused.value[flow]) continue
        failed.push((error as Error).message)
        why[flow] = (error as Error).message
        if (error instanceof ApiError) forget(flow)
        if (!(error instanceof ApiError)) connected.value = false
      }
    }
    asked.value = now
    refused.value = why
    problem.value = failed.join(' · ')
  }
  const without = <T>(all: Record<string, T>, flow: string) =>
    Object.fromEntries(Object.entries(all).filter(([k]) => k !== flow))
  /** A flow that cannot run as it stands shows nothing of what it was. */
  function empty(flow: string) {
    if (shown.value[flow]) shown.value = without(shown.value, flow)
    if (drawn.value[flow]) drawn.value = without(drawn.value, flow)
  }
  function forget(flow: string) {
    wanted.value = without(wanted.value, flow)
    empty(flow)
  }
  /** Why a flow has no frames, or ended before its time. */
  const failureOf = (flow: string) =>
    refused.value[flow] ?? (runOf(flow)?.state === 'failed' ? runOf(flow)!.message || 'the run failed' : '')
  async function stop() {
    for (const r of Object.keys(wanted.value).map(runOf))
      if (r && GOES.includes(r.state)) await call<RunOut>('POST', `/runs/${r.identity}/stop`)
  }
  onScopeDispose(() => callOff(rest))
  watch(
    () => study.savedCount,
    () => {
      const first = !wanting.value && study.doc?.flows.some((f) => f.steps.length)
      if (!(wanting.value || first) || quality.value !== 'preview') return
      callOff(rest)
      rest = afterwards(() => {
        if (quality.value !== 'preview') return
        following.value ||= !current.value && !chosen
        void start('preview', true)
      }, 350)
    },
  )
  /** What comes, or is played, changes the picture until it ends. */
  const moving = lasting()
  watch(
    () =>
      playing.value || (following.value && Object.keys(wanted.value).some((f) => GOES.includes(runOf(f)?.state ?? ''))),
    moving,
    { flush: 'sync' },
  )
  /** Flows whose run failed before its first frame: what they were before is no longer what their lanes say. */
  const hollow = computed(() =>
    Object.keys(wanted.value).filter((f) => {
      const r = runOf(f)
      return r?.state === 'failed' && !r.frames.length
    }),
  )
  watch(
    () => hollow.value.join(),
    () => {
      for (const flow of hollow.value) empty(flow)
    },
  )
  /** What goes on is followed while somebody can see it; what has ended lets go of the frame. */
  watch(
    () => [run.value?.state, ready.value, seen.value] as const,
    ([state, all]) => {
      if (!following.value || playing.value || !all.size || !seen.value) return
      frame.value = Math.min(clock.value.end, Math.max(...all))
      if (state !== 'running' && state !== 'waiting') following.value = false
    },
  )
  watch(
    () => run.value?.state,
    (s) => {
      if (s === 'failed') problem.value = run.value?.message ?? ''
    },
  )

  async function show(flow: string, identity: string, n: number) {
    const how = lookOf(flow)
    const { colour } = how
    const results = listed.resultsOf(kindOf(flow))
    const name = nameOf(identity, n, results, how)
    let found = frames.get(name)
    if (!found) {
      found = await loadFrame(identity, n, results, how)
      frames.set(name, found)
      kept += sizeOf(found)
    }
    for (const [old, f] of frames) {
      if (kept < KEPT || old === name) break
      frames.delete(old)
      kept -= sizeOf(f)
    }
    const wants = identity === wanted.value[flow] && n === frame.value && colour === lookOf(flow).colour
    if (wants && shown.value[flow] !== found)
      // who shows it already need not draw again
      shown.value = { ...shown.value, [flow]: found }
  }
  /** Lines and points that the lane draws from its frames; the document says how, so no run is needed for another
   * length. */
  async function draw(flow: string, identity: string, n: number) {
    const { fields, shapes } = study.doc ?? {}
    const name = JSON.stringify([identity, n, lookOf(flow).colour, study.laneOf(flow)?.steps, fields, shapes])
    const known = meshes.get(name)
    if (known) {
      if (identity === wanted.value[flow] && drawn.value[flow] !== known)
        drawn.value = { ...drawn.value, [flow]: known }
      return
    }
    const made = await newestArrays<Drawn['facts']>(`drawn.${flow}`, `/runs/${identity}/frames/${n}/drawn`, {
      study: study.key,
      document: study.doc,
      have: knownMeshes(),
    })
    if (made) keepMeshes(made)
    if (made?.facts.mesh && !made.facts.prototypes.length) {
      meshes.set(name, made)
      held += bytesOf(made)
      for (const [old, m] of meshes) {
        if (held < KEPT || old === name) break
        meshes.delete(old)
        held -= bytesOf(m)
      }
    }
    if (made?.facts.on && !areDrawn(made))
      problem.value =
        `The instances have ${(made.facts.triangles / 1e6).toFixed(1)} million triangles; points are shown in their ` +
        'place. A smaller share, or simpler shapes, can be drawn.'
    if (made && identity === wanted.value[flow]) drawn.value = { ...drawn.value, [flow]: made }
  }
  const draws = (flow: string) =>
    study.laneOf(flow)?.steps.some((s) => s.on && study.entry(s.op, flow)?.kind === 'drawn') ?? false
  /** Whether the surface of a flow is drawn: it is waited for while frames play. */
  const meshed = (flow: string) =>
    draws(flow) && lookOf(flow).draw !== 'points' && listed.formsOf(kindOf(flow)).includes('mesh')
  /** Flows that are shown whose run lacks a frame, and whether any of these runs goes on. */
  function lacking(n: number) {
    const found = (study.doc?.flows ?? []).filter(({ id }) => {
      const r = runOf(id)
      return r && lookOf(id).shown && !r.frames.includes(n)
    })
    const goes = found.some(({ id }) => GOES.includes(runOf(id)!.state))
    return { names: found.map((f) => f.name), goes }
  }
  /** Whether all that flows hold of a frame, as far as it was computed, is what is shown. */
  const isShown = (n: number) =>
    (study.doc?.flows ?? []).every(({ id }) => {
      if (!runOf(id)?.frames.includes(n)) return true
      const lines = !draws(id) || !lookOf(id).shown || drawn.value[id]?.facts.frame === n
      return shown.value[id]?.frame === n && lines
    })
  /** What is wrong with a frame, by the name of its flow instead of the folder that it lies in. */
  function told(flow: string, error: Error) {
    if (!(error instanceof ApiError) || !error.body.what) return error.message
    const { what, fix } = error.body as { what: string; fix?: string }
    return `${study.laneOf(flow)?.name ?? flow}: ${what}${fix ? `; ${fix}` : ''}`
  }
  /** Frames that are being fetched, by flow, and what was asked for since: only the newest is fetched after it. */
  const flying = new Map<string, (() => Promise<void>) | null>()
  async function fetched(flow: string, job: () => Promise<void>) {
    if (flying.has(flow)) {
      flying.set(flow, job)
      return
    }
    flying.set(flow, null)
    await job().catch((error) => {
      problem.value = told(flow, error as Error)
    })
    const next = flying.get(flow)
    flying.delete(flow)
    if (next) await fetched(flow, next)
  }
  function refresh() {
    for (const { id } of study.doc?.flows ?? []) {
      const r = runOf(id)
      if (!r?.frames.includes(frame.value)) continue
      const n = frame.value
      void fetched(id, () => show(id, r.identity, n))
      if (draws(id)) {
        if (!lookOf(id).shown) continue // what it drew last stays, for when it is shown again
        void draw(id, r.identity, frame.value).catch((error) => {
          problem.value = told(id, error as Error)
        })
      } else if (drawn.value[id])
        drawn.value = Object.fromEntries(Object.entries(drawn.value).filter(([k]) => k !== id))
    }
  }
  watch(
    [
      frame,
      wanted,
      // other frames that come meanwhile change nothing of what is seen
      () => (study.doc?.flows ?? []).map(({ id }) => `${id} ${runOf(id)?.frames.includes(frame.value)}`).join(),
      () => JSON.stringify([study.doc?.looks, study.doc?.flows]),
    ],
    refresh,
    { immediate: true },
  )

  let last = 0
  function tick(now: number) {
    if (!playing.value) return
    const each = 1000 / clock.value.fps
    if (now - last >= each) {
      last = now - ((now - last) % each)
      const drawnNow = !meshed(main.value) || drawn.value[main.value]?.facts.frame === frame.value
      const shownNow = (current.value?.frame === frame.value && drawnNow) || !ready.value.has(frame.value)
      if (shownNow) {
        const end = Math.max(clock.value.start, ...(run.value?.frames ?? [clock.value.end]))
        const next = frame.value >= end ? clock.value.start : frame.value + 1
        if (ready.value.has(next) || !run.value) frame.value = next
      }
    }
    requestAnimationFrame(tick)
  }
  function play(on = !playing.value) {
    following.value = false
    if (on && !playing.value) {
      playing.value = true
      requestAnimationFrame(tick)
    } else playing.value = on
  }
  function go(n: number) {
    following.value = false
    chosen = !!study.doc?.flows.some((f) => f.steps.length)
    frame.value = Math.max(clock.value.start, Math.min(clock.value.end, Math.round(n)))
  }
  return {
    runs,
    frame,
    time,
    clock,
    playing,
    connected,
    quality,
    wanted,
    main,
    run,
    runOf,
    ready,
    stale,
    isStale,
    isFresh,
    isShown,
    lacking,
    shown,
    drawn,
    current,
    light,
    lookOf,
    formOf,
    problem,
    failureOf,
    open,
    close,
    start,
    runNow,
    following,
    stop,
    play,
    go,
  }
})
