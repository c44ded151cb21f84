/** Where a shape, a region or a lane is used, in words; and taking those uses out together with it. */
import type { Raw, StudyDoc } from '../api/types'

type What = 'shape' | 'region' | 'lane'
function names(raw: Raw, id: string, what: What): boolean {
  if (raw === id) return true
  if (Array.isArray(raw)) return what === 'shape' && (raw as unknown[]).includes(id)
  if (raw && typeof raw === 'object') {
    if ('field' in raw) return what === 'lane' && raw.field === id
    if ('link' in raw) return raw.link.startsWith(`${what === 'lane' ? 'fields' : `${what}s`}.${id}.`)
  }
  return false
}
const keysFor: Record<What, string[]> = { shape: ['shape', 'shapes'], region: ['region'], lane: ['field', 'by'] }
const counts = (key: string, raw: Raw, id: string, what: What) => names(raw, id, what) && (keysFor[what].includes(key) || (typeof raw === 'object' && !Array.isArray(raw)))

export function usesOf(d: StudyDoc, what: What, id: string): string[] {
  const found: string[] = []
  for (const lane of [...d.fields, ...d.flows]) for (const step of lane.steps)
    if (Object.entries(step.params).some(([k, raw]) => counts(k, raw, id, what))) found.push(`${lane.name} · ${step.op.replace(/_/g, ' ')}`)
  if (what === 'shape') for (const r of d.regions) if (r.bounds.fit.includes(id)) found.push(`region ${r.name}`)
  return found
}
export function removeUses(d: StudyDoc, what: What, id: string) {
  for (const lane of [...d.fields, ...d.flows]) {
    lane.steps = lane.steps.filter((step) => {
      for (const [k, raw] of Object.entries(step.params)) {
        if (!counts(k, raw, id, what)) continue
        if (Array.isArray(raw) && raw.length > 1) step.params[k] = (raw as string[]).filter((x) => x !== id)
        else if (raw && typeof raw === 'object' && !Array.isArray(raw)) delete step.params[k]
        else return false
      }
      return true
    })
  }
  if (what === 'shape') for (const r of d.regions) {
    r.bounds.fit = r.bounds.fit.filter((x) => x !== id)
    if (!r.bounds.fit.length && !r.bounds.lower) { r.bounds.lower = [-2, -2, 0]; r.bounds.upper = [2, 2, 2] }
  }
}
