/** What is looked at: swatches of every step, the probe, readings, shapes to draw, checks. */
import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { call, newest, newestArrays, type Packed } from '../api/client'
import type { Finding, Vec3 } from '../api/types'
import { mappingFor, type Mapping } from '../lib/colour'
import { useRuns } from './runs'
import { useStudy } from './study'

export interface SwatchFacts { lane: string; step: string; kind: 'scalar' | 'vector'; low: number; high: number; unit: string }
export interface SceneFacts {
  shapes: { id: string; lower: Vec3; upper: Vec3; bounded: boolean }[]
  regions: { id: string; lower: Vec3; upper: Vec3; corners: Vec3[]; cells: boolean; shape: Vec3; voxel_size: number; voxels: number; bytes: number; bounds: { lower: Vec3; upper: Vec3 } }[]
  budget: number; errors: Record<string, string>
}
export interface Reading { kind: string; low: number; high: number; mean: number; rms: number; coverage: number; divergence: number | null; unit: string
  per: string; per_size: number; bunching: number | null; travel: number | null; solved: { iterations: number; before: number; after: number } | null
  histogram: number[] | null; remark: string; incoming?: { low: number; high: number; histogram: number[] }
}
export interface ProbeFacts { kind: string; unit: string; low: number; high: number }
/** The lane, made for the probe only, that samples a gas run. */
const FROM_GAS = 'gas_of_the_probe'
export type Glyph = 'barbs' | 'arrows' | 'lines' | 'none'
/** Where the probe is: a plane, a box full of glyphs, or the surface of a shape (`shape:id`). */
export type Place = 'plane' | 'box' | `shape:${string}`

export const useLook = defineStore('look', () => {
  const study = useStudy()
  const runs = useRuns()
  const swatches = shallowRef<Packed<{ size: number; steps: SwatchFacts[]; errors: Record<string, string>; probe?: ProbeFacts; window: { origin: Vec3; u: Vec3; v: Vec3 } }> | null>(null)
  const scene = shallowRef<Packed<SceneFacts> | null>(null)
  /** The probe: magnitudes on the plane (`values`) and vectors where glyphs stand (`vectors`). */
  const slice = shallowRef<Packed<ProbeFacts> | null>(null)
  const lines = shallowRef<Packed<ProbeFacts> | null>(null)
  const reading = shallowRef<Reading | null>(null)
  /** The numbers are not yet those of what is selected, as it stands. */
  const measuring = ref(false)
  const findings = ref<Finding[]>([])
  const problem = ref('')
  const axis = ref(2)
  const share = ref(0.42)
  const density = ref(17)
  const glyph = ref<Glyph>('barbs')
  const showSlice = ref(true)
  const showProbe = ref(true)
  const showParticles = ref(true)
  const showShapes = ref(true)
  const peek = ref(false)
  /** Before and after of the selected step, side by side under one camera. */
  const split = ref(false)
  const before = shallowRef<Packed<ProbeFacts> | null>(null)
  const place = ref<Place>('plane')
  const surface = shallowRef<Packed<ProbeFacts> | null>(null)
  /** Length of glyphs as a factor, width in pixels. */
  const glyphLength = ref(1)
  const glyphWidth = ref(1)
  /** No vanishing point: equal lengths look equal wherever they are. */
  const parallel = ref(false)
  /** The curve that is being drawn in the view, if any. */
  const drawing = ref('')
  const pinned = ref<Mapping | null>(null)
  const size = 48

  /** The selected gas, when its frame is there: the probe then stands in what the run holds, its velocity or the channel that is shown. */
  const gas = computed(() => {
    const s = study.selection
    const flow = s?.kind === 'lane' ? s.id : s?.kind === 'step' ? s.lane : ''
    if (!flow || !runs.isGas(flow) || typeof study.selectedStep?.params.field === 'string' || !runs.isFresh(flow)) return null
    const channel = runs.lookOf(flow).colour
    const kind = channel === 'smoke' || channel === 'vel' ? 'vector' : 'scalar'
    return { flow, name: `${study.laneOf(flow)?.name ?? flow}${kind === 'scalar' ? `, ${channel}` : ''}`, params: { flow, kind, quality: runs.runOf(flow)!.quality, ...(kind === 'scalar' ? { channel } : {}) } }
  })
  /** The lane and step that the view shows: the selected step, or the end of the last vector lane. */
  const target = computed(() => {
    const s = study.selection
    if (gas.value) return { lane: FROM_GAS, step: null }
    if (s?.kind === 'step' && !study.isFlow(s.lane)) return { lane: s.lane, step: s.id }
    if (s?.kind === 'lane' && !study.isFlow(s.id)) return { lane: s.id, step: null }
    if (s?.kind === 'step') {
      const field = study.selectedStep?.params.field
      if (typeof field === 'string') return { lane: field, step: null }
    }
    const last = study.doc?.fields.at(-1)
    return last?.steps.length ? { lane: last.id, step: null } : null
  })
  const box = computed<{ lower: Vec3; upper: Vec3 }>(() => {
    const f = scene.value?.facts
    const boxes = f?.regions.length ? f.regions : f?.shapes.filter((s) => s.bounded).map((s) => ({ lower: s.lower.map((v) => v - 1) as Vec3, upper: s.upper.map((v) => v + 1) as Vec3 }))
    if (!boxes?.length) return { lower: [-2, -2, 0], upper: [2, 2, 3] }
    const pick = (g: (...v: number[]) => number, which: 'lower' | 'upper') => [0, 1, 2].map((i) => g(...boxes.map((b) => b[which][i]))) as Vec3
    return { lower: pick(Math.min, 'lower'), upper: pick(Math.max, 'upper') }
  })
  /** The probe's rectangle across its axis. */
  const window_ = computed(() => {
    const { lower, upper } = box.value
    const [a, b] = [[1, 2], [0, 2], [0, 1]][axis.value]
    const origin = [...lower] as Vec3
    origin[axis.value] = lower[axis.value] + share.value * (upper[axis.value] - lower[axis.value])
    const u: Vec3 = [0, 0, 0]
    const v: Vec3 = [0, 0, 0]
    u[a] = upper[a] - lower[a]
    v[b] = upper[b] - lower[b]
    return { origin, u, v, width: u[a], height: v[b] }
  })
  const mapping = computed<Mapping>(() => pinned.value ?? mappingFor(slice.value?.facts.low ?? 0, slice.value?.facts.high ?? 1))

  /** With the lane that samples the gas, if the probe stands in one. */
  const probed = () => (gas.value && study.doc ? { ...body(), document: { ...study.doc, fields: [...study.doc.fields, { id: FROM_GAS, name: gas.value.name, steps: [{ id: 'run', op: 'from_run', on: true, params: gas.value.params }] }] } } : body())
  const hidden = computed(() => !!gas.value && !showSlice.value && !showProbe.value)
  const body = () => ({ study: study.key, document: study.doc, time: runs.time })
  /** Steps that the server is solving or baking, by place, and how far they are; asked for only while something waits. */
  const working = ref<Record<string, number>>({})
  let waiting = 0
  let asking = 0
  async function ask() {
    if (!waiting) { working.value = {}; asking = 0; return }
    working.value = await call<Record<string, number>>('GET', '/look/working').catch(() => ({}))
    asking = window.setTimeout(() => void ask(), 350)
  }
  async function guarded(work: () => Promise<void>) {
    waiting++
    if (!asking) asking = window.setTimeout(() => void ask(), 350)
    try {
      await work()
      problem.value = ''
    } catch (error) {
      problem.value = (error as Error).message
    } finally {
      waiting--
    }
  }
  /** Edits since the study was opened, each with its time, until a picture shows it; `gust:pictured` tells (see docs/performance.md). */
  let edition = 0
  const unseen = { score: new Map<number, number>(), view: new Map<number, number>() }
  function pictured(what: keyof typeof unseen, edition: number) {
    requestAnimationFrame(() => requestAnimationFrame(() => { // drawn in the first, on the screen by the second
      const late = []
      for (const [n, at] of unseen[what]) if (n <= edition) { late.push(performance.now() - at); unseen[what].delete(n) }
      window.dispatchEvent(new CustomEvent('gust:pictured', { detail: { what, late } }))
    }))
  }
  /** Swatches of all lanes and, when both change, the probe along with them: one answer, one picture. */
  async function refreshSwatches(withProbe = false) {
    if (!study.doc) return
    const mine = edition
    const order = ++asked
    const probe = withProbe && target.value && !hidden.value ? { ...target.value, before: peek.value && target.value.step !== null, ...cells() } : undefined
    await guarded(async () => {
      const made = await newestArrays<NonNullable<typeof swatches.value>['facts']>('swatches', '/look/swatches', { ...(probe ? probed() : body()), size, axis: axis.value, share: share.value, probe })
      if (!made) return
      swatches.value = made
      pictured('score', mine)
      const facts = made.facts.probe
      if (!facts || order < answered) return
      const part = <T>(all: Record<string, T>) => Object.fromEntries(Object.entries(all).filter(([k]) => k.startsWith('probe.')).map(([k, v]) => [k.slice(6), v]))
      answered = order
      slice.value = { facts, arrays: part(made.arrays), shapes: part(made.shapes) }
      pictured('view', mine)
    })
  }
  let drawn = ''
  async function refreshScene() {
    if (!study.doc) return
    // meshes are large: asked for again only when something that they depend on may have changed
    const { shapes, regions } = study.doc
    const what = JSON.stringify([study.key, runs.time, shapes, regions])
    if (what === drawn && !what.includes('"link"')) return
    await guarded(async () => {
      const made = await newestArrays<SceneFacts>('shapes', '/look/shapes', body())
      if (made) { scene.value = made; drawn = what }
    })
  }
  /** Probes asked for, and the newest of them that was answered: an older answer does not replace a newer one. */
  let asked = 0
  let answered = 0
  /** Edits come one after the other: slices are coarser until they pause. */
  let dragged = false
  /** Where the probe samples: cells of the plane, and cells for glyphs on it or in the whole box. */
  function cells() {
    const w = window_.value
    const { lower: low, upper: high } = box.value
    const longest = Math.max(w.width, w.height)
    const at = (n: number) => ({ origin: w.origin, u: w.u, v: w.v, columns: Math.max(2, Math.round((n * w.width) / longest)), rows: Math.max(2, Math.round((n * w.height) / longest)) })
    const deep: Vec3 = [0, 0, 0]
    deep[axis.value] = high[axis.value] - low[axis.value]
    const whole = { origin: [0, 1, 2].map((i) => (i === axis.value ? low[i] : w.origin[i])) as Vec3, w: deep, layers: Math.max(2, Math.min(24, Math.round((density.value * 0.6 * deep[axis.value]) / longest))) }
    return { slice: at(dragged ? 96 : 160), glyphs: place.value === 'box' ? { ...at(density.value * 0.6), ...whole } : at(density.value) }
  }
  /** The probe alone, and what stands on it: flow lines, a shape's surface, the field before the step. */
  async function refreshProbe(plain = true) {
    const mine = edition
    const order = ++asked
    if (!study.doc || !target.value) { slice.value = lines.value = null; return }
    if (hidden.value) return // gas is not asked for what is not drawn
    const base = { ...probed(), ...target.value, before: peek.value && target.value.step !== null }
    const { slice: plane, glyphs } = cells()
    await guarded(async () => {
      if (plain) {
        const made = await newestArrays<ProbeFacts>('probe', '/look/probe', { ...base, slice: plane, glyphs })
        if (made && order >= answered) { answered = order; slice.value = made; pictured('view', mine) }
      }
      if (split.value && target.value?.step) {
        const made = await newestArrays<ProbeFacts>('probe.before', '/look/probe', { ...base, before: true, slice: plane, glyphs })
        if (made) before.value = made
      }
      if (place.value.startsWith('shape:')) {
        const made = await newestArrays<ProbeFacts>('surface', '/look/surface', { ...base, shape: place.value.slice(6), count: Math.round(density.value * density.value * 2) })
        if (made) surface.value = made
      } else surface.value = null
      if (glyph.value === 'lines' && showProbe.value) {
        const w = window_.value
        const fewer = (n: number) => Math.max(2, Math.round(0.7 * n))
        const n = place.value === 'box' ? { columns: 12, rows: 12 } : { columns: fewer(glyphs.columns), rows: fewer(glyphs.rows) }
        const seeds: Vec3[] = []
        for (let r = 0; r < n.rows; r++) for (let c = 0; c < n.columns; c++) seeds.push([0, 1, 2].map((i) => w.origin[i] + (w.u[i] * (c + 0.5)) / n.columns + (w.v[i] * (r + 0.5)) / n.rows) as Vec3)
        const made = await newestArrays<ProbeFacts>('lines', '/look/lines', { ...base, seeds: seeds.slice(0, 1500), length: Math.max(w.width, w.height) * 0.35, steps: 48 })
        if (made) lines.value = made
      }
    })
  }
  async function refreshReading() {
    if (!study.doc || !target.value) { reading.value = null; measuring.value = false; return }
    await guarded(async () => {
      const response = await newest('reading', '/look/reading', { ...probed(), ...target.value })
      if (!response) return // a newer one is on its way
      const made = (await response.json()) as Reading
      reading.value = made.kind === 'none' ? null : made
      measuring.value = false
    })
  }
  async function refreshChecks() {
    if (!study.doc) return
    await guarded(async () => {
      const frame = runs.current && !runs.stale && runs.current.frame === runs.frame ? { run: runs.current.identity, frame: runs.current.frame } : {}
      const response = await newest('checks', '/look/checks', { ...body(), ...frame })
      if (response) findings.value = await response.json()
    })
  }
  /** Which study's shapes are known: where the probe is depends on them. */
  let known = ''
  let quiet = 0
  function later() {
    if (!study.doc || known !== study.key) return // after the first picture
    clearTimeout(quiet)
    quiet = window.setTimeout(() => { void refreshReading(); void refreshChecks() }, 300)
  }
  async function refreshAll() {
    const scenery = refreshScene()
    if (!study.doc) return
    const key = study.key
    if (known !== key) await scenery
    await Promise.all([refreshSwatches(true), refreshProbe(!target.value)])
    known = key
  }
  watch(() => JSON.stringify(target.value), () => { reading.value = null; measuring.value = !!target.value })
  let edited = -Infinity
  let sharpen = 0
  watch(() => study.doc, () => {
    edition++
    measuring.value = !!target.value
    const now = performance.now()
    dragged = now - edited < 400
    edited = now
    clearTimeout(sharpen)
    if (dragged) sharpen = window.setTimeout(() => { dragged = false; void refreshProbe() }, 450)
    for (const times of Object.values(unseen)) times.set(edition, performance.now())
    void refreshAll().then(later) // numbers come after pictures
  })
  watch([() => JSON.stringify([target.value, gas.value]), hidden, peek, split, place, axis, share, density, glyph, showProbe], () => { if (known === study.key) { void refreshProbe(); later() } })
  watch([axis, share], () => { if (known === study.key) void refreshSwatches() })
  watch(box, (now, before) => { if (known === study.key && JSON.stringify(now) !== JSON.stringify(before)) void refreshProbe() })
  watch(() => runs.frame, () => {
    if (known !== study.key) return
    void refreshProbe()
    if (!runs.playing) { void refreshSwatches(); void refreshScene(); later() }
  })
  watch(() => runs.playing, (on) => { if (!on) { void refreshSwatches(); void refreshScene(); later() } })
  watch(() => runs.run?.state, later)

  /** How a study wants to be seen when it is opened. */
  function adopt(probe: { axis?: number; share?: number; glyph?: string; hidden?: boolean }) {
    showSlice.value = showProbe.value = !probe.hidden
    axis.value = probe.axis ?? 2
    share.value = probe.share ?? 0.42
    if (probe.glyph) glyph.value = probe.glyph as Glyph
    place.value = 'plane'
    split.value = false
    drawing.value = ''
  }
  /** The common mapping of a lane's swatches. */
  function laneMapping(lane: string): Mapping {
    const steps = swatches.value?.facts.steps.filter((s) => s.lane === lane) ?? []
    return mappingFor(Math.min(0, ...steps.map((s) => s.low)), Math.max(0, ...steps.map((s) => s.high)))
  }
  return {
    swatches, scene, slice, lines, reading, measuring, findings, problem, working, axis, share, density, glyph, showSlice, showProbe, showParticles, showShapes,
    peek, split, before, place, surface, glyphLength, glyphWidth, parallel, drawing, pinned, mapping, target, box, window: window_, size, laneMapping, adopt, refreshProbe, refreshChecks, body, probed, gas,
  }
})
