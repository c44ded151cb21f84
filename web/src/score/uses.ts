/** Where a shape, a region or a lane is used, in words; and taking those uses out together with it. */
import type { ParamSpec, Raw, Region, StudyDoc } from '../api/model'
import { useLook } from '../stores/look'
import { useStudy } from '../stores/study'

type What = 'shape' | 'region' | 'lane'
const TYPES: Record<What, string[]> = { shape: ['shape', 'shapes'], region: ['region'], lane: ['field', 'flow'] }

function specs(op: string, lane: string): ParamSpec[] {
  return useStudy().entry(op, lane)?.params ?? []
}
/** Whether a value refers to the part: by its id, in a list, as a field in place of a number, or by a link. */
function refers(raw: Raw | undefined, spec: ParamSpec | undefined, id: string, what: What): boolean {
  if (raw && typeof raw === 'object' && !Array.isArray(raw)) {
    if ('field' in raw) return what === 'lane' && raw.field === id
    if ('link' in raw) return raw.link.startsWith(`${what === 'lane' ? 'fields' : `${what}s`}.${id}.`)
    return false
  }
  if (!spec || !TYPES[what].includes(spec.type)) return false
  if (Array.isArray(raw)) return (raw as unknown[]).includes(id)
  return raw === id || (spec.type === 'flow' && String(raw).startsWith(`${id}:`)) // a result of a flow, by name
}

/** A region that is fitted to nothing any more stays where it was. */
export function stay(r: Region) {
  const was = useLook().scene?.facts.regions.find((f) => f.id === r.id)?.bounds
  Object.assign(r.bounds, {
    lower: was?.lower ?? [-2, -2, 0],
    upper: was?.upper ?? [2, 2, 2],
    padding: 0, // corners that are set are those that are meant
  })
}

export function usesOf(d: StudyDoc, what: What, id: string): string[] {
  const found: string[] = []
  for (const lane of [...d.fields, ...d.flows])
    for (const step of lane.steps) {
      const known = specs(step.op, lane.id)
      if (
        Object.entries(step.params).some(([k, raw]) =>
          refers(
            raw,
            known.find((s) => s.name === k),
            id,
            what,
          ),
        )
      )
        found.push(`${lane.name} · ${step.op.replace(/_/g, ' ')}`)
    }
  if (what === 'shape')
    for (const r of d.regions) if (r.bounds.fit.includes(id) || r.bounds.floor === id) found.push(`region ${r.name}`)
  for (const s of madeFrom(d, what, id)) found.push(`shape ${s.name}`, ...usesOf(d, 'shape', s.id))
  return found
}

/** Shapes that a lane or a region makes. */
function madeFrom(d: StudyDoc, what: What, id: string) {
  if (what === 'shape') return []
  return d.shapes.filter((s) =>
    (useStudy().shapeEntry(s.kind)?.params ?? []).some((p) => p.required && refers(s.params[p.name], p, id, what)),
  )
}

/** Take every use out: a list loses the entry, an optional or linked value goes back to its default, else the step
 * goes; a shape that it makes goes, with its own uses. */
export function removeUses(d: StudyDoc, what: What, id: string) {
  for (const s of madeFrom(d, what, id)) {
    removeUses(d, 'shape', s.id)
    d.shapes = d.shapes.filter((x) => x.id !== s.id)
  }
  for (const lane of [...d.fields, ...d.flows]) {
    lane.steps = lane.steps.filter((step) => {
      const known = specs(step.op, lane.id)
      for (const [k, raw] of Object.entries(step.params)) {
        const spec = known.find((s) => s.name === k)
        if (!refers(raw, spec, id, what)) continue
        const rest = Array.isArray(raw) ? (raw as string[]).filter((x) => x !== id) : []
        if (rest.length) step.params[k] = rest
        else if (spec?.required && !(raw && typeof raw === 'object' && !Array.isArray(raw))) return false
        else delete step.params[k]
      }
      return true
    })
  }
  if (what === 'shape')
    for (const r of d.regions) {
      if (r.bounds.floor === id) r.bounds.floor = ''
      if (!r.bounds.fit.includes(id)) continue
      r.bounds.fit = r.bounds.fit.filter((x) => x !== id)
      if (!r.bounds.fit.length) stay(r)
    }
}
