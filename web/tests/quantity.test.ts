import { describe, expect, it } from 'vitest'
import { parseQuantity, shown } from '../src/lib/quantity'

describe('a typed quantity', () => {
  it.each([
    ['4*0.05', '', 0.2],
    ['20 cm', 'm', 0.2],
    ['1/3', '', 1 / 3],
    ['-(2 + 3) × 2', '', -10],
    ['1,5', 'm', 1.5],
    ['36 km/h', 'm/s', 10],
    ['60 /min', '/s', 1],
    ['2e-3', 'm', 0.002],
    ['.5', '', 0.5],
  ])('%s in %s is %d', (text, unit, value) => {
    expect(parseQuantity(text, unit)).toBeCloseTo(value, 12)
  })

  it.each([
    ['', 'a number is missing'],
    ['2 +', 'a number is missing'],
    ['(1 + 2', 'a bracket is not closed'],
    ['two', "'two' is not a number"],
    ['3 kg', "'kg' does not fit here; the unit is m"],
  ])('%s is refused: %s', (text, words) => {
    expect(() => parseQuantity(text, 'm')).toThrow(words)
  })

  it('shows numbers so that they are read back as they are shown', () => {
    for (const v of [0, 1, -0.5, 1234, 0.000123, 1e7])
      expect(parseQuantity(shown(v).replace(/[ ,]/g, ''), '')).toBeCloseTo(v, 3)
  })
})
