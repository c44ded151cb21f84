/** A parameter value in words, for cards, undo and chips. */
import type { Keys, ParamSpec, Raw, StudyDoc } from '../api/model'
import { shown } from '../lib/quantity'
import { standInWords } from '../lib/standing'

export function rawWords(raw: Raw | undefined, spec: Pick<ParamSpec, 'unit' | 'type'>, doc: StudyDoc | null): string {
  if (raw === undefined || raw === null) return 'not chosen'
  const unit = spec.unit && spec.unit !== 'as the field' ? ` ${spec.unit}` : ''
  if (typeof raw === 'number') return `${shown(raw)}${unit}`
  if (typeof raw === 'boolean') return raw ? 'on' : 'off'
  if (typeof raw === 'string') {
    const stands = standInWords(doc, raw)
    if (stands) return stands
    const list =
      spec.type === 'shape'
        ? doc?.shapes
        : spec.type === 'region'
          ? doc?.regions
          : spec.type === 'field'
            ? doc?.fields
            : spec.type === 'flow'
              ? doc?.flows
              : undefined
    const [id, result] = spec.type === 'flow' ? raw.split(':') : [raw]
    const name = list?.find((x) => x.id === id)?.name
    return name ? (result ? `${name} · ${result}` : name) : raw || 'none'
  }
  if (Array.isArray(raw)) {
    if (spec.type === 'shapes')
      return (
        raw.map((id) => standInWords(doc, id as Raw) ?? doc?.shapes.find((s) => s.id === id)?.name ?? id).join(', ') ||
        'none'
      )
    if (spec.type === 'curve' || spec.type === 'points') return `${raw.length} points`
    return (
      raw.map((v) => (typeof v === 'number' ? shown(v, 3) : String(v))).join(spec.type === 'range' ? ' … ' : ' ') + unit
    )
  }
  if ('keys' in raw) return `${raw.keys.length} keys`
  if ('link' in raw) return `${raw.times ?? 1} × ${raw.link.split('.').at(-1)!.replace(/_/g, ' ')}`
  return `field ${doc?.fields.find((f) => f.id === (raw as { field: string }).field)?.name ?? ''}`
}

/** What has changed from one value to another, in words; of keys which of them, and how. */
export function changeWords(before: Raw, after: Raw, spec: Pick<ParamSpec, 'unit' | 'type'>, doc: StudyDoc | null) {
  const [a, b] = [keysOf(before), keysOf(after)]
  if (!a || !b) return `${rawWords(before, spec, doc)} → ${rawWords(after, spec, doc)}`
  const told = (k: Keys['keys'][number]) => `${rawWords(k[1] as Raw, spec, doc)} at ${shown(k[0], 3)} s`
  const same = (k: unknown, l: unknown) => JSON.stringify(k) === JSON.stringify(l)
  const gone = a.keys.filter((k) => !b.keys.some((l) => same(k, l)))
  const come = b.keys.filter((k) => !a.keys.some((l) => same(k, l)))
  if (!gone.length && !come.length) return `between keys ${a.between ?? 'smooth'} → ${b.between ?? 'smooth'}`
  if (gone.length === 1 && come.length === 1) return `key ${told(gone[0])} → ${told(come[0])}`
  const list = (word: string, keys: Keys['keys']) => (keys.length ? `${word} ${keys.map(told).join(', ')}` : '')
  return [list('key added:', come), list('key removed:', gone)].filter(Boolean).join('; ')
}
const keysOf = (raw: Raw) =>
  raw && typeof raw === 'object' && !Array.isArray(raw) && 'keys' in raw ? (raw as Keys) : undefined
