/** Distance lanes where shapes can stand: choosing one makes its surface a shape, in the same edit. */
import type { Raw, StudyDoc } from '../api/model'
import { freshId, freshName } from './fresh'

const AS = 'lane:'
/** What is offered for a lane where a shape is asked for. */
export const standInOf = (lane: string) => AS + lane
export const isStandIn = (value: unknown): value is string => typeof value === 'string' && value.startsWith(AS)

/** The shape that a lane makes where it is zero, if the study has it. */
const surfaceOf = (d: StudyDoc, lane: string) =>
  d.shapes.find((s) => s.kind === 'field_surface' && s.params.field === lane && !s.params.level)

/** Lanes that could stand where a shape can: distances, if there is a region to look for their surface in, that have
 * no shape yet. */
export function lanesAsShapes(d: StudyDoc, unitOf: (lane: string) => string, own = ''): { id: string; name: string }[] {
  if (!d.regions.length) return []
  return d.fields
    .filter((f) => f.id !== own && unitOf(f.id) === 'm' && !surfaceOf(d, f.id))
    .map((f) => ({ id: standInOf(f.id), name: `surface of ${f.name}` }))
}

/** The id of the shape that a value stands for, made in the document if it is not there; other values as they are. */
export function standing(d: StudyDoc, value: Raw): Raw {
  if (Array.isArray(value)) return (value as unknown[]).map((v) => standing(d, v as Raw)) as Raw
  if (!isStandIn(value)) return value
  const lane = value.slice(AS.length)
  const known = surfaceOf(d, lane)
  if (known) return known.id
  const name = freshName(
    `Surface of ${d.fields.find((f) => f.id === lane)?.name ?? lane}`,
    d.shapes.map((s) => s.name),
  )
  const id = freshId(
    name,
    d.shapes.map((s) => s.id),
  )
  const params = { field: lane, region: d.regions[0]?.id ?? '' }
  d.shapes.push({ id, name, kind: 'field_surface', shown: true, params })
  return id
}

/** A value in words, if it stands for a lane. */
export const standInWords = (d: StudyDoc | null, value: Raw) =>
  isStandIn(value) ? `surface of ${d?.fields.find((f) => f.id === value.slice(AS.length))?.name ?? ''}` : null
