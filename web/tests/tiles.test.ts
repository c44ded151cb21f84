import { expect, test } from 'vitest'
import { within } from '../src/score/tiles'

const slice = { origin: [-2, -2, 1], u: [4, 0, 0], v: [0, 4, 0] } as const
const at = (lower: number[], upper: number[]) =>
  within(slice as never, { lower, upper } as never).map((x) => Number(x.toFixed(6)))

test('the part of a slice that a box lies in, row 0 at the top', () => {
  expect(at([-2, -2, 0], [2, 2, 2])).toEqual([0, 0, 1])
  expect(at([0, 0, 0], [2, 2, 2])).toEqual([0.5, 0, 0.5])
  expect(at([-2, -2, 0], [0, 0, 2])).toEqual([0, 0.5, 0.5])
})
test('a narrow box is shown in a square around it, inside the slice', () => {
  expect(at([-2, -0.5, 0], [0, 0.5, 2])).toEqual([0, 0.25, 0.5])
  expect(at([-2, 1.5, 0], [0, 2, 2])).toEqual([0, 0, 0.5])
})
test('a box that is elsewhere leaves the slice as it is', () => {
  expect(at([5, 5, 0], [6, 6, 2])).toEqual([0, 0, 1])
})
