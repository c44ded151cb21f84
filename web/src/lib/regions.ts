/** A new region: a box, or fitted to shapes. */
import type { Region, StudyDoc, Vec3 } from '../api/model'
import { freshId, freshName } from './fresh'

type Where = { fit: string[]; padding: number } | { lower: Vec3; upper: Vec3 }

export function newRegion(id: string, name: string, where: Where): Region {
  const sides: { more_below: Vec3; more_above: Vec3; floor: string } = {
    more_below: [0, 0, 0],
    more_above: [0, 0, 0],
    floor: '',
  }
  const bounds =
    'fit' in where
      ? { fit: where.fit, lower: null, upper: null, padding: where.padding, ...sides }
      : { fit: [], lower: where.lower, upper: where.upper, padding: 0, ...sides }
  const plain = { shown: true, voxel_size: 0.1, follow: false, over: 'first frame', cells: false } as const
  return { id, name, bounds, ...plain, turn: [0, 0, 0] }
}

/** A region for what a study has: around one shape, else around those that end somewhere; a room above the ground if
 * there are none. */
export function roomFor(doc: StudyDoc, shape?: string): Region {
  const id = freshId(
    'region',
    doc.regions.map((r) => r.id),
  )
  const name = freshName(
    'Region',
    doc.regions.map((r) => r.name),
  )
  const fit = shape ? [shape] : doc.shapes.filter((s) => s.kind !== 'plane').map((s) => s.id)
  const where = fit.length
    ? { fit: fit.slice(0, 8), padding: 1 }
    : { lower: [-2, -2, 0] as Vec3, upper: [2, 2, 2.5] as Vec3 }
  return newRegion(id, name, where)
}
