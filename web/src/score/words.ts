/** A parameter value in words, for cards, undo and chips. */
import type { ParamSpec, Raw, StudyDoc } from '../api/model'
import { shown } from '../lib/quantity'

export function rawWords(raw: Raw | undefined, spec: Pick<ParamSpec, 'unit' | 'type'>, doc: StudyDoc | null): string {
  if (raw === undefined || raw === null) return 'not chosen'
  const unit = spec.unit && spec.unit !== 'as the field' ? ` ${spec.unit}` : ''
  if (typeof raw === 'number') return `${shown(raw)}${unit}`
  if (typeof raw === 'boolean') return raw ? 'on' : 'off'
  if (typeof raw === 'string') {
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
      return raw.map((id) => doc?.shapes.find((s) => s.id === id)?.name ?? id).join(', ') || 'none'
    if (spec.type === 'curve' || spec.type === 'points') return `${raw.length} points`
    return (
      raw.map((v) => (typeof v === 'number' ? shown(v, 3) : String(v))).join(spec.type === 'range' ? ' … ' : ' ') + unit
    )
  }
  if ('keys' in raw) return `${raw.keys.length} keys`
  if ('link' in raw) return `${raw.times ?? 1} × ${raw.link.split('.').at(-1)!.replace(/_/g, ' ')}`
  return `field ${doc?.fields.find((f) => f.id === (raw as { field: string }).field)?.name ?? ''}`
}
