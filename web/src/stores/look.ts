/** What is looked at: swatches of every step, the probe, readings, shapes to draw, checks. */
import { defineStore, storeToRefs } from 'pinia'
import { computed, shallowRef, watch } from 'vue'
import { newestArrays, type Packed } from '../api/client'
import type { Vec3 } from '../api/model'
import { SMOKE, VELOCITY } from '../forms/channels'
import { mappingFor, type Mapping } from '../lib/colour'
import { lanesAsShapes } from '../lib/standing'
import { makePictured } from '../lib/pictured'
import { afterwards, callOff } from '../lib/rest'
import { useCatalogue } from './catalogue'
import { useMeasuring } from './measuring'
import { useRuns } from './runs'
import { useStudy } from './study'
import { useView } from './view'
import { useWorking } from './working'

export interface SwatchFacts {
  lane: string
  step: string
  kind: 'scalar' | 'vector'
  low: number
  high: number
  unit: string
}
export interface SceneFacts {
  shapes: { id: string; lower: Vec3; upper: Vec3; bounded: boolean; about: string }[]
  regions: {
    id: string
    lower: Vec3
    upper: Vec3
    corners: Vec3[]
    cells: boolean
    shape: Vec3
    voxel_size: number
    voxels: number
    bytes: number
    bounds: { lower: Vec3; upper: Vec3 }
    /** What of the study it was worked out from. */
    given: { lower: Vec3 | null; upper: Vec3 | null; more_below: Vec3; more_above: Vec3 }
  }[]
  budget: number
  errors: Record<string, string>
}
export interface ProbeFacts {
  kind: string
  unit: string
  low: number
  high: number
}
/** The lane, made for the probe only, that samples a gas run. */
const FROM_GAS = 'gas_of_the_probe'
export const useLook = defineStore('look', () => {
  const study = useStudy()
  const runs = useRuns()
  const listed = useCatalogue()
  const numbers = useMeasuring()
  const { guarded } = useWorking()
  const { measuring, reading } = storeToRefs(numbers)
  const { axis, share, density, glyph, place, showSlice, showProbe, peek, split, pinned } = storeToRefs(useView())
  const swatches = shallowRef<Packed<{
    size: number
    steps: SwatchFacts[]
    errors: Record<string, string>
    probe?: ProbeFacts
    window: { origin: Vec3; u: Vec3; v: Vec3 }
  }> | null>(null)
  const scene = shallowRef<Packed<SceneFacts> | null>(null)
  /** The probe: magnitudes on the plane (`values`) and vectors where glyphs stand (`vectors`). */
  const slice = shallowRef<Packed<ProbeFacts> | null>(null)
  const lines = shallowRef<Packed<ProbeFacts> | null>(null)
  const before = shallowRef<Packed<ProbeFacts> | null>(null)
  const surface = shallowRef<Packed<ProbeFacts> | null>(null)
  const size = 48

  /** The selected gas, when its frame is there: the probe then stands in what the run holds, its velocity or the
   * channel that is shown. */
  const gas = computed(() => {
    const s = study.selection
    const flow = s?.kind === 'lane' ? s.id : s?.kind === 'step' ? s.lane : ''
    if (
      !flow ||
      !listed.offers(study.laneOf(flow)?.kind, 'volume') ||
      typeof study.selectedStep?.params.field === 'string' ||
      !runs.isFresh(flow)
    )
      return null
    const channel = runs.lookOf(flow).colour
    // a flow that is looked at as points or a surface shows the motion of its grid
    const moving = runs.formOf(flow) !== 'volume' || channel === SMOKE || channel === VELOCITY
    const kind = moving ? 'vector' : 'scalar'
    return {
      flow,
      name: `${study.laneOf(flow)?.name ?? flow}${kind === 'scalar' ? `, ${channel}` : ''}`,
      params: { flow, kind, quality: runs.runOf(flow)!.quality, ...(kind === 'scalar' ? { channel } : {}) },
    }
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
    const boxes = f?.regions.length
      ? f.regions
      : f?.shapes
          .filter((s) => s.bounded)
          .map((s) => ({ lower: s.lower.map((v) => v - 1) as Vec3, upper: s.upper.map((v) => v + 1) as Vec3 }))
    if (!boxes?.length) return { lower: [-2, -2, 0], upper: [2, 2, 3] }
    const pick = (g: (...v: number[]) => number, which: 'lower' | 'upper') =>
      [0, 1, 2].map((i) => g(...boxes.map((b) => b[which][i]))) as Vec3
    return { lower: pick(Math.min, 'lower'), upper: pick(Math.max, 'upper') }
  })
  /** The probe's rectangle across its axis. */
  const window_ = computed(() => {
    const { lower, upper } = box.value
    const [a, b] = [
      [1, 2],
      [0, 2],
      [0, 1],
    ][axis.value]
    const origin = [...lower] as Vec3
    origin[axis.value] = lower[axis.value] + share.value * (upper[axis.value] - lower[axis.value])
    const u: Vec3 = [0, 0, 0]
    const v: Vec3 = [0, 0, 0]
    u[a] = upper[a] - lower[a]
    v[b] = upper[b] - lower[b]
    return { origin, u, v, width: u[a], height: v[b] }
  })
  /** The shape whose surface the probe stands on, if it does. */
  const onShape = computed(() => (place.value.startsWith('shape:') ? place.value.slice(6) : ''))
  const mapping = computed<Mapping>(() => {
    const seen = (onShape.value && surface.value?.facts) || slice.value?.facts
    return pinned.value ?? mappingFor(seen?.low ?? 0, seen?.high ?? 1)
  })

  /** With the lane that samples the gas, if the probe stands in one. */
  const probed = () =>
    gas.value && study.doc
      ? {
          ...body(),
          document: {
            ...study.doc,
            fields: [
              ...study.doc.fields,
              {
                id: FROM_GAS,
                name: gas.value.name,
                steps: [{ id: 'run', op: 'from_run', on: true, params: gas.value.params }],
              },
            ],
          },
        }
      : body()
  const hidden = computed(() => !!gas.value && !showSlice.value && !showProbe.value)
  const body = () => ({ study: study.key, document: study.doc, time: runs.time })
  const picture = makePictured()
  /** Swatches of all lanes and, when both change, the probe along with them: one answer, one picture. */
  async function refreshSwatches(withProbe = false) {
    if (!study.doc) return
    const mine = picture.now()
    const order = ++asked
    const probe =
      withProbe && target.value && !hidden.value
        ? { ...target.value, before: peek.value && target.value.step !== null, ...cells() }
        : undefined
    await guarded('swatches', async () => {
      const made = await newestArrays<NonNullable<typeof swatches.value>['facts']>('swatches', '/look/swatches', {
        ...(probe ? probed() : body()),
        size,
        axis: axis.value,
        share: share.value,
        probe,
      })
      if (!made) return
      swatches.value = made
      picture.shown('score', mine)
      const facts = made.facts.probe
      if (!facts || order < answered) return
      const part = <T>(all: Record<string, T>) =>
        Object.fromEntries(
          Object.entries(all)
            .filter(([k]) => k.startsWith('probe.'))
            .map(([k, v]) => [k.slice(6), v]),
        )
      answered = order
      slice.value = { facts, arrays: part(made.arrays), shapes: part(made.shapes) }
      picture.shown('view', mine)
    })
  }
  let drawn = ''
  let sought = ''
  async function refreshScene() {
    if (!study.doc) return
    // meshes are large: asked for again only when something that they depend on may have changed
    const { shapes, regions } = study.doc
    const what = JSON.stringify([study.key, runs.time, shapes, regions])
    if (what === drawn && !what.includes('"link"')) return
    sought = what
    await guarded('shapes', async () => {
      const made = await newestArrays<SceneFacts>('shapes', '/look/shapes', body())
      if (made) {
        scene.value = made
        drawn = what
      } else if (sought === what) afterwards(() => void refreshScene(), 400) // given up, and for nothing newer
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
    const at = (n: number) => ({
      origin: w.origin,
      u: w.u,
      v: w.v,
      columns: Math.max(2, Math.round((n * w.width) / longest)),
      rows: Math.max(2, Math.round((n * w.height) / longest)),
    })
    const deep: Vec3 = [0, 0, 0]
    deep[axis.value] = high[axis.value] - low[axis.value]
    const whole = {
      origin: [0, 1, 2].map((i) => (i === axis.value ? low[i] : w.origin[i])) as Vec3,
      w: deep,
      layers: Math.max(2, Math.min(24, Math.round((density.value * 0.6 * deep[axis.value]) / longest))),
    }
    return {
      slice: at(dragged ? 96 : 160),
      glyphs: place.value === 'box' ? { ...at(density.value * 0.6), ...whole } : at(density.value),
    }
  }
  /** The probe alone, and what stands on it: flow lines, a shape's surface, the field before the step. */
  async function refreshProbe(plain = true) {
    const mine = picture.now()
    const order = ++asked
    if (!study.doc || !target.value) {
      slice.value = lines.value = null
      return
    }
    if (hidden.value) return // gas is not asked for what is not drawn
    const base = { ...probed(), ...target.value, before: peek.value && target.value.step !== null }
    const { slice: plane, glyphs } = cells()
    await guarded('probe', async () => {
      if (plain) {
        const made = await newestArrays<ProbeFacts>('probe', '/look/probe', { ...base, slice: plane, glyphs })
        if (made && order >= answered) {
          answered = order
          slice.value = made
          picture.shown('view', mine)
        }
      }
      if (split.value && target.value?.step) {
        const made = await newestArrays<ProbeFacts>('probe.before', '/look/probe', {
          ...base,
          before: true,
          slice: plane,
          glyphs,
        })
        if (made) before.value = made
      }
      if (onShape.value) {
        const made = await newestArrays<ProbeFacts>('surface', '/look/surface', {
          ...base,
          shape: onShape.value,
          count: Math.round(density.value * density.value * 2),
        })
        if (made) surface.value = made
      } else surface.value = null
      if (glyph.value === 'lines' && showProbe.value) {
        const w = window_.value
        const fewer = (n: number) => Math.max(2, Math.round(0.7 * n))
        const n =
          place.value === 'box'
            ? { columns: 12, rows: 12 }
            : { columns: fewer(glyphs.columns), rows: fewer(glyphs.rows) }
        const seeds: Vec3[] = []
        for (let r = 0; r < n.rows; r++)
          for (let c = 0; c < n.columns; c++)
            seeds.push(
              [0, 1, 2].map(
                (i) => w.origin[i] + (w.u[i] * (c + 0.5)) / n.columns + (w.v[i] * (r + 0.5)) / n.rows,
              ) as Vec3,
            )
        const made = await newestArrays<ProbeFacts>('lines', '/look/lines', {
          ...base,
          seeds: seeds.slice(0, 1500),
          length: Math.max(w.width, w.height) * 0.35,
          steps: 48,
        })
        if (made) lines.value = made
      }
    })
  }
  /** Which study's shapes are known: where the probe is depends on them. */
  let known = ''
  const refreshChecks = () => numbers.check(body())
  function later() {
    if (!study.doc || known !== study.key) return // after the first picture
    numbers.later(body(), () => {
      // of the motion of a grid that liquid is only a part of, numbers over the whole box would mislead
      const partial = gas.value && runs.formOf(gas.value.flow) !== 'volume'
      return target.value && !partial ? { ...probed(), ...target.value, ...looked() } : null
    })
  }
  /** Where numbers are read: what the probe covers, the region if it is off. */
  function looked() {
    if (place.value === 'box' || !(showProbe.value || showSlice.value)) return {}
    if (onShape.value) return { shape: onShape.value }
    const { origin, u, v } = window_.value
    return { plane: { origin, u, v } }
  }
  async function refreshAll() {
    const scenery = refreshScene()
    if (!study.doc) return
    const key = study.key
    if (known !== key) await scenery
    await Promise.all([refreshSwatches(true), refreshProbe(!target.value)])
    known = key
  }
  watch(
    () => JSON.stringify(target.value),
    () => {
      reading.value = null
      measuring.value = !!target.value
    },
  )
  let edited = -Infinity
  let sharpen = 0
  watch(
    () => study.doc,
    () => {
      picture.edited()
      measuring.value = !!target.value
      const now = performance.now()
      dragged = now - edited < 400
      edited = now
      callOff(sharpen)
      if (dragged)
        sharpen = afterwards(() => {
          dragged = false
          void refreshProbe()
        }, 450)
      void refreshAll().then(later) // numbers come after pictures
    },
  )
  watch(
    [
      () => JSON.stringify([target.value, gas.value]),
      hidden,
      peek,
      split,
      place,
      axis,
      share,
      density,
      glyph,
      showProbe,
      showSlice,
    ],
    () => {
      if (known === study.key) {
        void refreshProbe()
        later()
      }
    },
  )
  watch([axis, share], () => {
    if (known === study.key) void refreshSwatches()
  })
  watch(box, (now, before) => {
    if (known === study.key && JSON.stringify(now) !== JSON.stringify(before)) void refreshProbe()
  })
  /** While frames play the probe follows at a pace of its own: it takes at most a fifth of the time. */
  const moving = () => runs.playing || runs.following
  let pacing = false
  async function follow() {
    if (pacing) return
    pacing = true
    let seen = NaN
    while (moving() && seen !== runs.frame) {
      seen = runs.frame
      const since = performance.now()
      await refreshProbe()
      await new Promise((done) => setTimeout(done, Math.min(2000, 4 * (performance.now() - since))))
    }
    pacing = false
  }
  watch(
    () => runs.frame,
    () => {
      if (known !== study.key) return
      if (moving()) void follow()
      else {
        void refreshProbe()
        void refreshSwatches()
        void refreshScene()
        later()
      }
    },
  )
  watch(moving, (on) => {
    if (!on && known === study.key) {
      void refreshProbe()
      void refreshSwatches()
      void refreshScene()
      later()
    }
  })
  watch(() => runs.run?.state, later)

  /** Whether a lane ends as a scalar, or as a vector, as far as is known. */
  const endsAs = (lane: string, kind: string) =>
    (swatches.value?.facts.steps.filter((s) => s.lane === lane).at(-1)?.kind ?? kind) === kind
  /** Lanes whose surface can stand where a shape can, but for one that asks. */
  const asShapes = (own = '') =>
    study.doc
      ? lanesAsShapes(
          study.doc,
          (lane) => swatches.value?.facts.steps.filter((s) => s.lane === lane).at(-1)?.unit ?? '',
          own,
        )
      : []
  /** The common mapping of a lane's swatches. */
  function laneMapping(lane: string): Mapping {
    const steps = swatches.value?.facts.steps.filter((s) => s.lane === lane) ?? []
    return mappingFor(Math.min(0, ...steps.map((s) => s.low)), Math.max(0, ...steps.map((s) => s.high)))
  }
  return {
    swatches,
    scene,
    slice,
    lines,
    before,
    surface,
    mapping,
    target,
    box,
    window: window_,
    onShape,
    size,
    gas,
    laneMapping,
    endsAs,
    asShapes,
    refreshProbe,
    refreshChecks,
    body,
    probed,
  }
})
