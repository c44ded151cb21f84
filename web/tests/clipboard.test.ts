/** Steps are copied, pasted, duplicated, wrapped and taken away, each in one edit. */
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { StudyDoc } from '../src/api/model'
import { copy, cut, duplicate, mark, paste, remove, wrap } from '../src/score/clipboard'
import { useDesk } from '../src/stores/desk'
import { opened } from './real'
import { doc } from './setup'

vi.mock('../src/api/client', async (original) => ({
  ...(await original<object>()),
  newest: () => Promise.resolve(null),
  newestArrays: () => Promise.resolve(null),
}))
const step = (id: string, op: string, params = {}) => ({ id, op, on: true, params })
const lanes = (): Partial<StudyDoc> => ({
  fields: [
    {
      id: 'a',
      name: 'A',
      steps: [step('n', 'curl_noise', { feature_size: 0.3 }), step('g', 'gain'), step('l', 'limit')],
    },
    { id: 'b', name: 'B', steps: [step('w', 'wind'), step('u', 'use_field', { field: 'a' })] },
  ] as never,
  flows: [{ id: 'p', name: 'P', kind: 'particles', steps: [step('e', 'emit')] }] as never,
})
const ops = (d: StudyDoc, lane: string) => [...d.fields, ...d.flows].find((l) => l.id === lane)!.steps.map((s) => s.op)

beforeEach(() => {
  vi.useFakeTimers()
  localStorage.clear()
})

describe('steps', () => {
  it('are pasted behind the selected one, with ids of their own and all they hold', async () => {
    const { study, saved } = await opened(doc(lanes()))
    study.select({ kind: 'step', lane: 'a', id: 'n' })
    expect(copy()).toBe(true)
    study.select({ kind: 'step', lane: 'b', id: 'w' })
    paste()
    expect(ops(study.doc!, 'b')).toEqual(['wind', 'curl_noise', 'use_field'])
    const made = study.doc!.fields[1].steps[1]
    expect(made.params).toEqual({ feature_size: 0.3 })
    expect(study.selection).toEqual({ kind: 'step', lane: 'b', id: made.id })
    paste()
    const ids = study.doc!.fields[1].steps.map((s) => s.id)
    expect(new Set(ids).size).toBe(4)
    await vi.advanceTimersByTimeAsync(400)
    expect(saved().map((c) => c.body!.label)).toEqual(['Paste Curl noise', 'Paste Curl noise'])
  })
  it('of another sort of lane are not pasted, and it is said', async () => {
    const { study } = await opened(doc(lanes()))
    paste()
    expect(useDesk().told).toBe('nothing has been copied')
    study.select({ kind: 'step', lane: 'p', id: 'e' })
    copy()
    expect(useDesk().told).toBe('copied Emit')
    study.select({ kind: 'lane', id: 'a' })
    paste()
    expect(useDesk().told).toBe('these are steps of a particles lane')
    expect(ops(study.doc!, 'a')).toHaveLength(3)
    await vi.advanceTimersByTimeAsync(3000)
    expect(useDesk().told).toBe('')
  })
  it('that are marked go together, in the order of their lane', async () => {
    const { study } = await opened(doc(lanes()))
    mark('a', 'l')
    mark('a', 'n')
    duplicate()
    expect(ops(study.doc!, 'a')).toEqual(['curl_noise', 'gain', 'limit', 'curl_noise', 'limit'])
    expect(useDesk().marked.size).toBe(0)
    mark('a', 'n')
    mark('b', 'w') // marks are of one lane
    expect([...useDesk().marked]).toEqual(['b/w'])
    mark('b', 'w')
    expect(useDesk().marked.size).toBe(0)
  })
  it('are cut, and removed, in an edit that says so', async () => {
    const { study, saved } = await opened(doc(lanes()))
    study.select({ kind: 'step', lane: 'a', id: 'g' })
    cut()
    expect(ops(study.doc!, 'a')).toEqual(['curl_noise', 'limit'])
    study.select({ kind: 'step', lane: 'b', id: 'u' })
    paste()
    expect(ops(study.doc!, 'b')).toEqual(['wind', 'use_field', 'gain'])
    mark('a', 'n')
    mark('a', 'l')
    remove()
    expect(ops(study.doc!, 'a')).toEqual([])
    await vi.advanceTimersByTimeAsync(400)
    expect(saved().map((c) => c.body!.label)).toEqual(['Cut Gain', 'Paste Gain', 'Remove 2 steps'])
  })
  it('are wrapped into a lane of their own that the rest begins with; those of flows are not', async () => {
    const { study } = await opened(doc(lanes()))
    mark('a', 'g')
    wrap()
    const d = study.doc!
    expect(d.fields.map((l) => l.id)).toContain('a')
    const made = d.fields.find((l) => !['a', 'b'].includes(l.id))!
    expect(made.steps.map((s) => s.op)).toEqual(['curl_noise', 'gain'])
    expect(ops(d, 'a')).toEqual(['use_field', 'limit'])
    expect(d.fields.find((l) => l.id === 'a')!.steps[0].params.field).toBe(made.id)
    study.select({ kind: 'step', lane: 'p', id: 'e' })
    wrap()
    expect(useDesk().told).toBe('only steps of a field lane can be wrapped')
  })
})
