/** A new region: a box, or fitted to shapes. */
import type { Region, Vec3 } from '../api/model'

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
