import { describe, expect, it } from 'vitest'
import { blackBody, blackBodyTable, COOLEST, HOTTEST } from '../src/lib/blackbody'

/** Chromaticity of linear sRGB. */
function xy([r, g, b]: number[]) {
  const [x, y, z] = [
    0.4124564 * r + 0.3575761 * g + 0.1804375 * b,
    0.2126729 * r + 0.7151522 * g + 0.072175 * b,
    0.0193339 * r + 0.119192 * g + 0.9503041 * b,
  ]
  return [x / (x + y + z), y / (x + y + z)]
}

describe('black bodies', () => {
  it.each([
    [2856, 0.4476, 0.4074],
    [2000, 0.5267, 0.4133],
    [6500, 0.3135, 0.3237],
  ])('at %d K have the chromaticity of the CIE', (kelvin, x, y) => {
    const [seenX, seenY] = xy(blackBody(kelvin))
    expect(Math.abs(seenX - x)).toBeLessThan(0.004)
    expect(Math.abs(seenY - y)).toBeLessThan(0.004)
  })
  it('grow bluer as they grow hotter, and red is the strongest of cool ones', () => {
    let before = -1
    for (let k = 800; k < 6500; k += 100) {
      const [r, , b] = blackBody(k)
      expect(r).toBe(1)
      expect(b).toBeGreaterThanOrEqual(before)
      before = b
    }
    expect(blackBody(800)[1]).toBeLessThan(0.2)
  })
  it('stand in a table from coolest to hottest', () => {
    const table = blackBodyTable()
    const middle = blackBody(COOLEST + ((HOTTEST - COOLEST) * 100) / 255)
    middle.forEach((v, c) => expect(table[4 * 100 + c]).toBeCloseTo(v, 5))
  })
})
