/** What the page works out by itself to draw: colours, curves, rows of a delivery, words of the shelf. */
import { describe, expect, it } from 'vitest'
import { chosenOf, itemOf, rowsOf } from '../src/hand/choices'
import { tidied } from '../src/kinds/looks'
import { gradientCss, index, mappingFor, maps, mixed, paint } from '../src/lib/colour'
import { bytes, long } from '../src/lib/quantity'
import { monotone, smooth } from '../src/lib/spline'
import { changeWords, isBusy, stateWords, type ShelfRun } from '../src/shelf/shelf'

describe('a mapping', () => {
  it('is even about zero where there is something below it, and begins at zero otherwise', () => {
    expect(mappingFor(-1, 3)).toEqual({ low: -3, high: 3, map: 'diverging' })
    expect(mappingFor(0, 3)).toEqual({ low: 0, high: 3, map: 'sequential' })
    expect(mappingFor(-1e-9, 3).map).toBe('sequential')
    expect(mappingFor(0, 0).high).toBe(1)
  })
  it('stays within its map whatever the value', () => {
    const m = mappingFor(0, 2)
    expect([-5, 0, 1, 2, 9].map((v) => index(v, m))).toEqual([0, 0, 128, 255, 255])
  })
  it('paints rows from the bottom up, as pictures begin at the top', () => {
    const m = mappingFor(0, 1)
    const pixels = paint(new Float32Array([0, 0, 1, 1]), 2, 2, m)
    expect([...pixels.slice(0, 3)]).toEqual([...maps.sequential.slice(765, 768)])
    expect([...paint(new Float32Array([0, 0, 1, 1]), 2, 2, m, false).slice(0, 3)]).toEqual([
      ...maps.sequential.slice(0, 3),
    ])
    expect(pixels[3]).toBe(255)
  })
  it('goes from one colour to the other, and around the circle back to where it began', () => {
    const two = mixed('#ff0000', '#0000ff')
    expect([...two.slice(0, 3)]).toEqual([255, 0, 0])
    expect([...two.slice(-3)]).toEqual([0, 0, 255])
    const ends = [maps.cyclic.slice(0, 3), maps.cyclic.slice(-3)].map((c) => [...c])
    expect(Math.max(...ends[0].map((v, i) => Math.abs(v - ends[1][i])))).toBeLessThan(8)
    expect(gradientCss('heat').match(/rgb/g)).toHaveLength(9)
  })
  it('of a look is fitted anew to another channel, and directions go around the circle', () => {
    const look = { colour: 'direction', low: 1, high: 2, map: 'heat' }
    expect(tidied(look, 'colour')).toMatchObject({ low: null, high: null, map: 'cyclic' })
    expect(tidied({ ...look, colour: 'speed', map: 'cyclic' }, 'colour')).toMatchObject({ map: 'sequential' })
    expect(tidied(look, 'low')).toBe(look)
  })
})

describe('curves', () => {
  const points: [number, number][] = [
    [0, 0],
    [0.3, 0.8],
    [0.5, 0.8],
    [1, 1],
  ]
  it('go through their points and stay at the ends', () => {
    for (const f of [monotone(points), smooth(points)]) {
      for (const [x, y] of points) expect(f(x)).toBeCloseTo(y, 6)
      expect(f(-1)).toBe(0)
      expect(f(2)).toBe(1)
    }
    expect(monotone([[0.5, 3]])(9)).toBe(3)
    expect(monotone(points.slice(0, 2))(0.15)).toBeCloseTo(0.4)
  })
  it('of profiles never turn back where their points do not', () => {
    const f = monotone(points)
    for (let i = 0; i < 100; i++) expect(f((i + 1) / 100)).toBeGreaterThanOrEqual(f(i / 100) - 1e-9)
  })
})

describe('rows of a delivery', () => {
  const run = (more = {}) => ({
    run: 'aa',
    flow: 'spray',
    name: '',
    quality: 'full',
    state: 'done',
    first: 1,
    last: 9,
    count: 9,
    result: 'particles',
    label: 'particles',
    formats: ['usd', 'ply'],
    channels: ['age'],
    created: '2026-11-30T10:00:00Z',
    ...more,
  })
  const field = { sort: 'field', id: 'wind', name: 'Wind', first: 1, last: 9, still: true, formats: ['vdb'] }
  const there = {
    offered: [run(), run({ run: 'bb' })],
    things: [{ ...field, regions: ['quay', 'room'], words: 'm/s' }],
  }
  const rows = rowsOf(there as never)

  it('tell runs apart that are called alike, by when they were begun', () => {
    expect(rows.map((r) => r.name)).toEqual(['spray', 'spray', 'Wind'])
    expect(rows[0].quality).toContain('begun')
    expect(rowsOf({ ...there, offered: [run()] } as never)[0].quality).toBe('full')
    expect(new Set(rows.map((r) => r.id)).size).toBe(3)
  })
  it('are told to the server with what was chosen: a field with its region', () => {
    expect(itemOf(rows[0], chosenOf(rows[0]))).toEqual({ run: 'aa', result: 'particles', format: 'usd', channels: [] })
    expect(itemOf(rows[2], chosenOf(rows[2]))).toMatchObject({ run: '', result: 'wind@quay', format: 'vdb' })
  })
})

describe('words', () => {
  it('of the shelf say what a run is at', () => {
    const run = (state: string, more = {}) =>
      ({ state, message: '', behind: '', changes: [], against: '', ...more }) as never
    const told = (r: unknown) => [isBusy(r as ShelfRun), stateWords(r as ShelfRun)]
    expect(told(run('waiting'))).toEqual([true, 'waits'])
    expect(told(run('waiting', { behind: 'Spray' }))).toEqual([true, 'waits behind Spray'])
    expect(told(run('waiting', { message: 'the disk is full' }))).toEqual([true, 'waits: the disk is full'])
    expect(told(run('done'))).toEqual([false, 'all there'])
    expect(told(run('failed', { message: 'too large' }))).toEqual([false, 'failed: too large'])
    expect(told(run('stopped', { message: 'by hand' }))).toEqual([false, 'stopped'])
    expect(changeWords(run('done'))).toEqual(['the first version'])
    expect(changeWords(run('done', { against: 'x' }))).toEqual(['the same version'])
  })
  it('of sizes and times are short', () => {
    expect([0.2, 45, 130, 7200].map(long)).toEqual(['1 s', '45 s', '2 min', '2.0 h'])
    expect(bytes(512)).toMatch(/B$/)
    expect(bytes(5 << 20)).toContain('MB')
  })
})
