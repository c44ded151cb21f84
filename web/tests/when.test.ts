import { describe, expect, it } from 'vitest'
import { clock, toMinute, toSecond } from '../src/lib/when'

const at = (year: number) => new Date(year, 11, 1, 14, 5, 9)

describe('when', () => {
  it('says day before month and 24 hours, with the year where it is another', () => {
    const now = new Date().getFullYear()
    expect(toMinute(at(now))).toBe('1 Dec 14:05')
    expect(toSecond(at(now))).toBe('1 Dec 14:05:09')
    expect(toMinute(at(now - 1))).toBe(`1 Dec ${now - 1} 14:05`)
    expect(clock(at(now))).toBe('14:05:09')
  })
})
