/** The save queue: one revision an edit, a drag is one edit, conflicts lose nothing. */
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { StudyDoc } from '../src/api/model'
import { useStudy } from '../src/stores/study'
import { doc, serve } from './setup'

const LANE = { id: 'w', name: 'Wind', steps: [{ id: 'a', op: 'wind', on: true, params: { speed: 1 } }] }
let revision = 7
let conflict: StudyDoc | null = null

async function opened() {
  const calls = serve(({ method, path, body }) => {
    const out = (document: unknown) => ({ key: 's', document, revision, undo: 'Rename', redo: null })
    if (method === 'PUT' && conflict && body!.base !== revision)
      return { status: 409, body: { message: 'x', theirs: conflict, revision } }
    if (method === 'PUT') {
      revision++
      return { body: out(body!.document) }
    }
    if (path.includes('/undo') && conflict && path.split('base=')[1] !== String(revision))
      return { status: 409, body: { message: 'x', theirs: conflict, revision } }
    if (path.endsWith('/aside')) return { body: { revision: 99 } }
    return { body: out(conflict ?? doc({ fields: [LANE] })) }
  })
  const study = useStudy()
  await study.load('s')
  return { study, saved: () => calls.filter((c) => c.method === 'PUT'), calls }
}
const speed = (study: ReturnType<typeof useStudy>, to: number) =>
  study.setParam({ kind: 'step', lane: 'w', id: 'a' }, { name: 'speed', label: 'Speed', unit: '' }, to, `1 → ${to}`)

beforeEach(() => {
  vi.useFakeTimers()
  revision = 7
  conflict = null
})

describe('the save queue', () => {
  it('makes one revision of a drag and one of every other edit', async () => {
    const { study, saved } = await opened()
    for (const v of [2, 3, 4]) speed(study, v)
    study.edit('Rename', (d) => (d.name = 'Other'))
    expect(study.state).toBe('unsaved')
    await vi.runAllTimersAsync()
    expect(saved().map((c) => c.body!.label)).toEqual(['Wind ▸ wind ▸ Speed 1 → 4', 'Rename'])
    expect(saved().map((c) => c.body!.base)).toEqual([7, 8])
    expect(study.state).toBe('saved')
  })

  it('keeps what was typed in the history when theirs is taken', async () => {
    const { study, calls } = await opened()
    speed(study, 5)
    conflict = doc({ name: 'Theirs', fields: [LANE] })
    revision = 12
    await vi.runAllTimersAsync()
    expect(study.state).toBe('conflict')
    await study.resolve('theirs')
    const aside = calls.find((c) => c.path === '/studies/s/aside')!
    expect((aside.body!.document as StudyDoc).fields[0].steps[0].params.speed).toBe(5)
    expect(aside.body!.label).toBe('Wind ▸ wind ▸ Speed 1 → 5')
    expect(study.doc!.name).toBe('Theirs')
    expect(study.state).toBe('saved')
  })

  it('saves mine on top of theirs when mine is kept', async () => {
    const { study, saved } = await opened()
    speed(study, 5)
    conflict = doc({ name: 'Theirs', fields: [LANE] })
    revision = 12
    await vi.runAllTimersAsync()
    await study.resolve('mine')
    await vi.runAllTimersAsync()
    expect(saved().at(-1)!.body!.base).toBe(12)
    expect(study.doc!.fields[0].steps[0].params.speed).toBe(5)
    expect(study.state).toBe('saved')
  })

  it('takes nothing back of what another window saved since', async () => {
    const { study, calls } = await opened()
    conflict = doc({ name: 'Theirs', fields: [LANE] })
    revision = 12
    await study.step('undo')
    expect(calls.at(-1)!.path).toBe('/studies/s/undo?base=7')
    expect([study.state, study.doc!.name]).toEqual(['conflict', 'Test'])
    await study.resolve('theirs')
    expect([study.state, study.doc!.name]).toEqual(['saved', 'Theirs'])
  })

  it('fits another channel of a look to its own range', async () => {
    const { study } = await opened()
    const owner = { kind: 'look', id: 'p' } as const
    study.setParam(owner, { name: 'low', label: 'From', unit: '' }, 2, '→ 2')
    study.setParam(owner, { name: 'colour', label: 'Colour', unit: '' }, 'direction', '→ direction')
    expect(study.doc!.looks.p).toMatchObject({ colour: 'direction', map: 'cyclic', low: null, high: null })
  })
})
