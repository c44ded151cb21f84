/** Which steps fit at the end of a lane, why others do not, and adding one with sensible references. */
import type { Entry, Lane, Params, ParamSpec, StudyDoc } from '../api/types'
import { useLook } from '../stores/look'
import { freshId, useStudy } from '../stores/study'

/** What comes out at the end of the lane now: nothing, scalar or vector; any while it is not known. */
function kindOf(lane: Lane): string {
  const steps = useLook().swatches?.facts.steps.filter((s) => s.lane === lane.id)
  return lane.steps.some((s) => s.on) ? (steps?.at(-1)?.kind ?? 'any') : 'nothing'
}

/** What must be chosen for a step as it is when it is added: references that its other defaults do not hide. */
function toChoose(e: Entry): ParamSpec[] {
  const byDefault = (name: string) => String(e.params.find((q) => q.name === name)?.default)
  return e.params.filter((p) => p.required && Object.entries(p.when ?? {}).every(([k, values]) => values.includes(byDefault(k))))
}

/** Why a step cannot be added to the lane, in words; empty if it can. */
export function whyNot(lane: Lane, e: Entry): string {
  const study = useStudy()
  const doc = study.doc!
  const kind = kindOf(lane)
  if (lane.kind === 'gas') {
    if (e.kind === 'domain') return lane.steps.length ? 'begins a lane' : doc.regions.length ? '' : 'there is no region yet'
    if (!lane.steps.length) return 'a gas lane begins with a Domain'
  } else if (study.isFlow(lane.id)) {
    if (e.kind === 'emit' && !doc.shapes.length) return 'there is no shape yet to emit from'
    if (e.id === 'carry' && !doc.fields.length) return 'there is no field yet'
    return ''
  }
  if (lane.kind !== 'gas') {
    if (e.accepts === 'nothing' && kind !== 'nothing') return 'begins a lane'
    if (e.accepts !== 'nothing' && kind === 'nothing') return 'needs a field before it'
  }
  if ((e.accepts === 'scalar' || e.accepts === 'vector') && kind !== 'any' && e.accepts !== kind) return `takes a ${e.accepts}; this lane is a ${kind}`
  for (const p of toChoose(e)) {
    if ((p.type === 'shape' || p.type === 'shapes') && !doc.shapes.length) return 'there is no shape yet'
    if (p.name === 'curve' && !doc.shapes.some((x) => x.kind === 'curve')) return 'there is no curve yet; add one beside Shapes'
    if (p.type === 'region' && !doc.regions.length) return 'there is no region yet'
    if (p.type === 'flow' && !doc.flows.length) return 'there is no particle flow yet'
    if (p.type === 'field' && !doc.fields.some((f) => f.id !== lane.id)) return 'there is no other lane yet'
  }
  return ''
}

/** Whether another lane is built from this one: then it is a part, and not what particles should be carried by. */
function isUsed(id: string, doc: StudyDoc): boolean {
  return doc.fields.some((l) => l.id !== id && l.steps.some((s) => Object.values(s.params).some((v) => v === id || (typeof v === 'object' && v !== null && 'field' in v && v.field === id))))
}

/** Append a step to a lane; what it must refer to is chosen so that it fits. */
export function addStepTo(lane: Lane, e: Entry) {
  const study = useStudy()
  const doc = study.doc!
  const flow = study.isFlow(lane.id)
  const kind = kindOf(lane)
  const params: Params = {}
  const obstacle = doc.shapes.find((s) => s.kind === 'mesh') ?? doc.shapes[0]
  const curve = doc.shapes.find((s) => s.kind === 'curve')
  for (const p of toChoose(e)) {
    if (p.type === 'shape') params[p.name] = ((p.name === 'curve' ? curve : ['emit', 'source'].includes(e.id) ? (doc.shapes.find((s) => s.kind !== 'mesh') ?? doc.shapes[0]) : obstacle) ?? obstacle)?.id ?? ''
    else if (p.type === 'shapes') params[p.name] = doc.shapes.length ? [doc.shapes[0].id] : []
    else if (p.type === 'region') params[p.name] = doc.regions[0]?.id ?? ''
    else if (p.type === 'flow') params[p.name] = doc.flows[0]?.id ?? ''
    else if (p.type === 'field') {
      const kinds = Object.fromEntries((useLook().swatches?.facts.steps ?? []).map((s) => [s.lane, s.kind]))
      const scalar = ['multiply', 'mask'].includes(e.id) || p.name === 'where'
      const want = scalar ? 'scalar' : e.id === 'warp' || flow ? 'vector' : e.kind === 'join' ? kind : ''
      const lanes = flow ? doc.fields : doc.fields.filter((f) => f.id !== lane.id)
      const fitting = [...lanes].reverse().filter((l) => !want || kinds[l.id] === want)
      const ends = flow ? fitting.filter((l) => !isUsed(l.id, doc)) : fitting
      params[p.name] = (ends[0] ?? fitting[0] ?? lanes.at(-1))?.id ?? ''
    }
  }
  const id = freshId(e.id, lane.steps.map((s) => s.id))
  study.edit(`Add ${e.label}`, (d) => {
    [...d.fields, ...d.flows].find((l) => l.id === lane.id)!.steps.push({ id, op: e.id, on: true, params })
  })
  study.select({ kind: 'step', lane: lane.id, id })
}
