/** The camera of a flipbook: through its keys, still outside of them, without a jerk between. */
import { describe, expect, it } from 'vitest'
import { cameraAt, type Key } from '../src/desk/flipbook/film'

const keys: Key[] = [
  { frame: 40, position: [4, 0, 2], target: [0, 0, 1], parallel: false },
  { frame: 1, position: [0, -6, 1], target: [0, 0, 1], parallel: true },
  { frame: 11, position: [3, -3, 1.5], target: [0, 0.5, 1], parallel: true },
]

describe('the camera of a flipbook', () => {
  it('is at every key at its frame, whatever their order, and still before and after', () => {
    for (const key of keys) {
      const at = cameraAt(keys, key.frame)!
      key.position.forEach((x, c) => expect(at.position[c]).toBeCloseTo(x, 12))
      expect(at.target).toEqual(key.target)
    }
    expect(cameraAt(keys, -20)!.position).toEqual([0, -6, 1])
    expect(cameraAt(keys, 400)!.position).toEqual([4, 0, 2])
    expect(cameraAt(keys, 5)!.parallel).toBe(true)
    expect(cameraAt([], 5)).toBeNull()
  })
  it('moves without a jerk: speeds change little from frame to frame', () => {
    const path = Array.from({ length: 393 }, (_, n) => cameraAt(keys, 1 + n / 10)!.position)
    const steps = path.slice(1).map((p, n) => p.map((x, c) => x - path[n][c]))
    const change = steps.slice(1).map((s, n) => Math.hypot(...s.map((x, c) => x - steps[n][c])))
    const fastest = Math.max(...steps.map((s) => Math.hypot(...s)))
    expect(Math.max(...change)).toBeLessThan(0.1 * fastest)
    expect(Math.hypot(...steps[0])).toBeLessThan(0.05 * fastest) // sets off from rest
  })
  it('goes straight between two keys, half way at half time', () => {
    const two = [keys[1], { ...keys[0], frame: 21 }]
    cameraAt(two, 11)!.position.forEach((x, c) => expect(x).toBeCloseTo([2, -3, 1.5][c], 12))
  })
})
