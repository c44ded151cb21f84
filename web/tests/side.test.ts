import { expect, test } from 'vitest'
import { FRONT, keepSide, keptSide, sideOf } from '../src/lib/side'

const at = (x: number, y: number, z: number) => ({ x, y, z })

test('the side of a camera is told in degrees, and kept for other pages', () => {
  expect(sideOf(at(0, -7, 1), at(0, 0, 1))).toEqual(FRONT)
  expect(sideOf(at(3, 0, 0), at(0, 0, 0))).toEqual({ azimuth: 0, height: 0 })
  expect(sideOf(at(1, 1, Math.SQRT2), at(0, 0, 0))).toEqual({ azimuth: 45, height: 45 })
  expect(keptSide('quay')).toBeNull()
  keepSide('quay', { azimuth: 30, height: 12.5 })
  expect(keptSide('quay')).toEqual({ azimuth: 30, height: 12.5 })
  localStorage.setItem('side.bad', '{')
  expect(keptSide('bad')).toBeNull()
})
