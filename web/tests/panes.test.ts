/** The address of Compare holds what is seen, and an address that somebody has written by hand breaks nothing. */
import { describe, expect, it } from 'vitest'
import type { RunOut, StudyDoc } from '../src/api/model'
import { first, nameOf, read, readView, written, writtenView } from '../src/compare/panes'
import { doc } from './setup'

const run = (identity: string, flow: string, more = {}) =>
  ({ identity, flow, kind: 'gas', quality: 'full', state: 'done', frames: [1, 2, 3], name: '', ...more }) as RunOut
const runs = [run('aa', 'smoke'), run('bb', 'smoke', { name: 'finer' }), run('cc', 'steam')]
const form = () => 'volume' as const
const flow = (id: string, steps: unknown[] = []) => ({ id, name: id, kind: 'gas', steps })
const study = (...flows: unknown[]) => doc({ flows } as never) as StudyDoc

describe('an address', () => {
  it('gives back the panes that were written, but for runs that are gone', () => {
    const panes = [
      { run: 'aa', channel: 'density' },
      { run: 'cc', channel: 'temperature' },
    ]
    expect(read(written(panes), runs)).toEqual(panes)
    expect(read(written([...panes, { run: 'gone', channel: 'x' }]), runs)).toEqual(panes)
    expect(read(undefined, runs)).toEqual([])
    expect(read('aa', runs).every((p) => p.run === 'aa')).toBe(true)
  })
  it('gives back frame, mapping and camera to the last digit that is seen', () => {
    const mapping = { map: 'heat', low: 0.1, high: 3.25, absorb: 4 } as never
    const camera = { position: [1.2345678, -2, 3], target: [0, 0.5, 1], parallel: true } as never
    const found = readView(writtenView({ frame: 7, mapping, camera }))
    expect(found.frame).toBe(7)
    expect(found.mapping).toMatchObject({ map: 'heat', low: 0.1, high: 3.25 })
    expect(found.camera!.parallel).toBe(true)
    expect(found.camera!.position[0]).toBeCloseTo(1.2345678, 4)
  })
  it.each([
    { frame: 'x', range: '3 1', camera: '1 2', map: 'none such', thickness: '-1' },
    { frame: ['1', '2'], range: 'NaN NaN', camera: '1 2 3 4 5 Infinity' },
    {},
  ])('that is none leaves what it cannot say: %j', (query) => {
    const found = readView(query as Record<string, unknown>)
    expect(found.camera).toBeNull()
    expect(found.mapping).toEqual({})
  })
})

describe('what is compared at first', () => {
  it('is two runs of a flow, else its channel beside what it copies, else two channels', () => {
    expect(first(runs, study(flow('smoke')), form).map((p) => p.run)).toEqual(['aa', 'bb'])
    const copies = flow('steam', [
      { id: 'c', op: 'channel', on: true, params: { name: 'heat', copies: 'temperature' } },
    ])
    expect(first([runs[2]], study(copies), form)).toEqual([
      { run: 'cc', channel: 'temperature' },
      { run: 'cc', channel: 'heat' },
    ])
    expect(new Set(first([runs[2]], study(flow('steam')), form).map((p) => p.channel)).size).toBe(2)
    expect(first([], study(flow('steam')), form)).toEqual([])
  })
  it('is named by what somebody called it, or by its lane', () => {
    expect(nameOf(runs[1], runs, study(flow('smoke')))).toBe('finer')
    expect(nameOf(runs[2], runs, study({ ...flow('steam'), name: 'Steam' }))).toContain('Steam')
  })
})
