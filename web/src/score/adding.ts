/** Which steps fit at the end of a lane, why others do not, and adding one with sensible references. */
import type { Entry, KindEntry, Lane, Params, ParamSpec, ShapeEntry, Step, StudyDoc, Vec3 } from '../api/model'
import { shapesThat } from '../kinds/roles'
import { applies } from '../lib/applies'
import { standing } from '../lib/standing'
import { useCatalogue } from '../stores/catalogue'
import { useLook } from '../stores/look'
import { freshId, freshName } from '../lib/fresh'
import { roomFor } from '../lib/regions'
import { useStudy } from '../stores/study'

/** What comes out at the end of the lane now: nothing, scalar or vector; any while it is not known. */
function kindOf(lane: Lane): string {
  const steps = useLook().swatches?.facts.steps.filter((s) => s.lane === lane.id)
  return lane.steps.some((s) => s.on) ? (steps?.at(-1)?.kind ?? 'any') : 'nothing'
}

/** The family of steps that say where a flow is computed. */
const DOMAIN = 'domain'

/** What must be chosen for a step as it is when it is added: references that its other defaults do not hide. */
function toChoose(e: Entry): ParamSpec[] {
  const byDefault = (name: string) => e.params.find((q) => q.name === name)?.default
  return e.params.filter((p) => p.required && applies(p, byDefault))
}

/** Why a step cannot be added to the lane, in words; empty if it can. */
export function whyNot(lane: Lane, e: Entry): string {
  const study = useStudy()
  const kind = kindOf(lane)
  if (study.isFlow(lane.id)) {
    const first = useCatalogue().kindOf(lane)?.begins_with[0]?.op
    const begins = first ? useCatalogue().step(first, lane)?.kind : ''
    if (begins === DOMAIN && e.kind === DOMAIN && lane.steps.length) return 'begins a lane'
    if (begins === DOMAIN && e.kind !== DOMAIN && !lane.steps.length)
      return `this lane begins with ${useCatalogue().step(first!, lane)?.label}`
  } else {
    if (e.accepts === 'nothing' && kind !== 'nothing') return 'begins a lane'
    if (e.accepts !== 'nothing' && kind === 'nothing') return 'needs a field before it'
    if ((e.accepts === 'scalar' || e.accepts === 'vector') && kind !== 'any' && e.accepts !== kind)
      return `takes a ${e.accepts}; this lane is a ${kind}`
  }
  return lacks(lane, e)[0]?.words ?? ''
}

/** What something must refer to and the study does not have. */
interface Lack {
  what: 'shape' | 'curve' | 'flow' | 'field'
  words: string
}
const NO_SHAPE: Lack = { what: 'shape', words: 'there is no shape yet' }

/** Whether a shape is one that can be flowed along. */
const isCurve = (s: { kind: string }) => ['curve', 'deformed_curve'].includes(s.kind)

/** What a step has to refer to and the study does not have yet. */
function lacks(lane: Lane, e: Entry): Lack[] {
  const doc = useStudy().doc!
  return toChoose(e).flatMap((p): Lack[] => {
    const shapes = doc.shapes.length + useLook().asShapes(lane.id).length
    if ((p.type === 'shape' || p.type === 'shapes') && !shapes) return [NO_SHAPE]
    if (p.name === 'curve' && !doc.shapes.some(isCurve))
      return [{ what: 'curve', words: 'there is no curve yet; add one beside Shapes' }]
    if (p.type === 'flow' && !flowsFor(p, lane, doc).length)
      return [{ what: 'flow', words: `there is no other flow that has ${p.provides || 'frames'} yet` }]
    if (p.type === 'field' && !doc.fields.some((f) => f.id !== lane.id))
      return [{ what: 'field', words: 'there is no other lane yet' }]
    if (p.type === 'field' && p.wants && !lanesThatEnd(p.wants).some((f) => f.id !== lane.id))
      return [{ what: 'field', words: `there is no lane that ends as a ${p.wants} yet` }]
    return []
  })
}

/** Flows that offer what a parameter of a shape takes from them. */
const flowsThatHave = (p: ParamSpec) =>
  useStudy().doc!.flows.filter((f) => f.steps.length && useCatalogue().provides(f.kind, p.provides))
/** Flows that offer what a parameter takes from them. */
function flowsFor(p: ParamSpec, lane: Lane, doc: StudyDoc) {
  return doc.flows.filter((f) => f.id !== lane.id && (!p.provides || useCatalogue().provides(f.kind, p.provides)))
}

/** Whether another lane is built from this one: then it is a part, and not what particles should be carried by. */
function isUsed(id: string, doc: StudyDoc): boolean {
  return doc.fields.some(
    (l) =>
      l.id !== id &&
      l.steps.some((s) =>
        Object.values(s.params).some(
          (v) => v === id || (typeof v === 'object' && v !== null && 'field' in v && v.field === id),
        ),
      ),
  )
}

/** What a flow falls on first: a plane, else what lies widest, of the shapes that no flow comes out of. */
function floorFor(lane: Lane, doc: StudyDoc) {
  const sources = new Set([...shapesThat(doc, 'emits'), ...lane.steps.map((s) => s.params.shape)])
  const free = doc.shapes.filter((s) => !sources.has(s.id))
  const facts = useLook().scene?.facts.shapes ?? []
  const area = (id: string) => {
    const f = facts.find((s) => s.id === id)
    return f ? (f.upper[0] - f.lower[0]) * (f.upper[1] - f.lower[1]) : 0
  }
  return (
    free.find((s) => s.kind === 'plane') ??
    [...free].filter((s) => s.shown).sort((a, b) => area(b.id) - area(a.id))[0] ??
    free[0] ??
    doc.shapes[0]
  )
}

/** What a step that is added must refer to, chosen so that it fits. */
function referencesFor(lane: Lane, e: Entry): Params {
  const study = useStudy()
  const doc = study.doc!
  const flow = study.isFlow(lane.id)
  const kind = kindOf(lane)
  const params: Params = {}
  const obstacle = doc.shapes.find((s) => s.kind === 'mesh') ?? doc.shapes[0]
  const curve = doc.shapes.find(isCurve)
  for (const p of toChoose(e)) {
    if (p.type === 'shape')
      params[p.name] =
        (
          (p.name === 'curve'
            ? curve
            : e.roles.emits
              ? (doc.shapes.find((s) => s.kind !== 'mesh') ?? doc.shapes[0])
              : obstacle) ?? obstacle
        )?.id ??
        useLook().asShapes(lane.id)[0]?.id ??
        ''
    else if (p.type === 'shapes') {
      const shape = e.roles.blocks ? floorFor(lane, doc) : doc.shapes[0]
      const first = shape ?? useLook().asShapes(lane.id)[0]
      params[p.name] = first ? [first.id] : []
    } else if (p.type === 'region') params[p.name] = regionFor(doc).id
    else if (p.type === 'flow') params[p.name] = flowsFor(p, lane, doc)[0]?.id ?? ''
    else if (p.type === 'field') {
      const kinds = Object.fromEntries((useLook().swatches?.facts.steps ?? []).map((s) => [s.lane, s.kind]))
      const scalar = ['multiply', 'mask'].includes(e.id) || p.name === 'where'
      const want = p.wants
        ? p.wants
        : scalar
          ? 'scalar'
          : e.id === 'warp' || flow
            ? 'vector'
            : e.kind === 'join'
              ? kind
              : ''
      const lanes = flow ? doc.fields : doc.fields.filter((f) => f.id !== lane.id)
      const fitting = [...lanes].reverse().filter((l) => l.steps.length && (!want || (kinds[l.id] ?? want) === want))
      // a flow is led by what nothing else is built from; a lane branches from the one that was worked on before
      const ends = flow ? fitting.filter((l) => !isUsed(l.id, doc)) : fitting.filter((l) => l.id === study.laneBefore)
      const first = ends[0] ?? fitting[0] ?? (p.wants ? undefined : lanes.at(-1))
      params[p.name] = first?.id ?? ''
    }
  }
  return params
}

/** The first region of a study; where there is none, the one that is made with what needs it. */
const regionFor = (doc: StudyDoc) => doc.regions[0] ?? roomFor(doc)
/** Make it, in the edit that adds what takes one. */
function withRegion(d: StudyDoc, takes: ParamSpec[]) {
  if (!d.regions.length && takes.some((p) => p.type === 'region')) d.regions.push(roomFor(d))
}

/** Append a step to a lane. */
export function addStepTo(lane: Lane, e: Entry) {
  const study = useStudy()
  const params = referencesFor(lane, e)
  const id = freshId(
    e.id,
    lane.steps.map((s) => s.id),
  )
  study.edit(`Add ${e.label}`, (d) => {
    withRegion(d, toChoose(e))
    for (const name of Object.keys(params)) params[name] = standing(d, params[name])
    ;[...d.fields, ...d.flows].find((l) => l.id === lane.id)!.steps.push({ id, op: e.id, on: true, params })
  })
  study.select({ kind: 'step', lane: lane.id, id })
}

/** Why a shape cannot be added yet, in words; empty if it can. */
export function whyNotShape(e: ShapeEntry): string {
  const doc = useStudy().doc!
  for (const p of e.params.filter((q) => q.required)) {
    if (p.type === 'shape' && !doc.shapes.length) return NO_SHAPE.words
    if (p.name === 'curve' && !doc.shapes.some(isCurve)) return 'there is no curve yet'
    if (p.type === 'field' && !lanesThatEnd(p.wants).length) return `there is no ${p.wants || 'other'} lane yet`
    if (p.type === 'flow' && !flowsThatHave(p).length) return `there is no flow that has a ${p.provides} yet`
  }
  return ''
}
/** Lanes that end as a scalar or as a vector, the newest first; both if it does not matter. */
function lanesThatEnd(kind: string) {
  const kinds = Object.fromEntries((useLook().swatches?.facts.steps ?? []).map((s) => [s.lane, s.kind]))
  const lanes = [...useStudy().doc!.fields].reverse().filter((l) => l.steps.length)
  return lanes.filter((l) => !kind || (kinds[l.id] ?? kind) === kind)
}
/** Add a shape of a kind, above the ground, or where a lane makes it. */
export function addShape(e: ShapeEntry) {
  const study = useStudy()
  const id = freshId(
    e.label,
    study.doc!.shapes.map((s) => s.id),
  )
  const params: Params = {}
  const takes = e.params.filter((q) => q.required)
  for (const p of takes)
    if (p.type === 'field') params[p.name] = lanesThatEnd(p.wants)[0]?.id ?? ''
    else if (p.type === 'shape') {
      const fits = study.doc!.shapes.filter((s) => p.name !== 'curve' || isCurve(s))
      const chosen = study.selection?.kind === 'shape' ? study.selection.id : ''
      params[p.name] = (fits.find((s) => s.id === chosen) ?? fits[0]).id
    } else if (p.type === 'region') params[p.name] = regionFor(study.doc!).id
    else if (p.type === 'flow') params[p.name] = flowsThatHave(p)[0]?.id ?? ''
  const made = Object.keys(params).length > 0
  if (!made && e.id !== 'plane') params.move = [0, 0, 1]
  const name = freshName(
    e.label,
    study.doc!.shapes.map((s) => s.name),
  )
  study.edit(`Add ${name}`, (d) => {
    withRegion(d, takes)
    d.shapes.push({ id, name, kind: e.id, shown: true, params })
  })
  study.select({ kind: 'shape', id })
}

/** Why an empty lane cannot be begun yet as its kind would have it, in words; empty if it can. */
export function whyNotBegin(lane: Lane, kind: KindEntry): string {
  for (const { op } of kind.begins_with) {
    const e = useCatalogue().step(op, lane)
    const lack = e && lacks(lane, e).find((l) => l.what !== 'shape') // a shape is made
    if (lack) return lack.words
  }
  return ''
}
/** What a lane begins with where there is no shape: a ball above the ground. */
const BALL = { id: 'sphere', name: 'sphere', kind: 'sphere', shown: true, params: { move: [0, 0, 1] as Vec3 } }
/** The steps that a lane of a kind begins with, on what the study has; a shape and a region that it lacks are made. */
export function beginWith(lane: Lane, kind: KindEntry) {
  const study = useStudy()
  const steps: Step[] = []
  const takes: ParamSpec[] = []
  let lacking = false
  for (const { op, params } of kind.begins_with) {
    const e = useCatalogue().step(op, lane)
    if (!e) continue
    const id = freshId(
      op,
      steps.map((s) => s.id),
    )
    const own: Params = { ...referencesFor(lane, e), ...params }
    takes.push(...toChoose(e))
    for (const p of toChoose(e)) {
      if (p.type !== 'shape' && p.type !== 'shapes') continue
      if ((own[p.name] as string | string[]).length) continue
      own[p.name] = p.type === 'shape' ? BALL.id : [BALL.id]
      lacking = true
    }
    steps.push({ id, op, on: true, params: own })
  }
  study.edit(`Begin ${lane.name}`, (d) => {
    if (lacking && !d.shapes.length) d.shapes.push(structuredClone(BALL))
    withRegion(d, takes)
    d.flows.find((l) => l.id === lane.id)!.steps.push(...steps)
  })
  study.select({ kind: 'step', lane: lane.id, id: steps.at(-1)!.id })
}
