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

/** A speed of 5 was typed, and somebody else saved in between. */
async function conflicting() {
  const made = await opened()
  speed(made.study, 5)
  conflict = doc({ name: 'Theirs', fields: [LANE] })
  revision = 12
  await vi.runAllTimersAsync()
  expect(made.study.state).toBe('conflict')
  return made
}
/** What was put aside of it. */
function putAside(calls: Awaited<ReturnType<typeof opened>>['calls']) {
  const aside = calls.find((c) => c.path === '/studies/s/aside')!
  expect((aside.body!.document as StudyDoc).fields[0].steps[0].params.speed).toBe(5)
  return aside
}

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
    const { study, calls } = await conflicting()
    await study.resolve('theirs')
    const aside = putAside(calls)
    expect(aside.body!.label).toBe('Wind ▸ wind ▸ Speed 1 → 5')
    expect(study.doc!.name).toBe('Theirs')
    expect(study.state).toBe('saved')
  })

  it('saves mine on top of theirs when mine is kept', async () => {
    const { study, saved } = await conflicting()
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

/** A server with revisions, and answers that take their time. */
function history(slow: () => number) {
  let all = [doc({ note: '' })]
  let at = 0
  let revision = 1
  let conflicts = 0
  const out = () => ({
    body: { key: 's', document: all[at], revision, undo: at ? 'x' : null, redo: at < all.length - 1 ? 'x' : null },
  })
  const calls = serve(async ({ method, path, body }) => {
    await new Promise((go) => setTimeout(go, slow()))
    const base = method === 'PUT' ? body!.base : Number(path.split('base=')[1])
    if (method !== 'GET' && base !== revision) {
      conflicts++
      return { status: 409, body: { message: 'x', theirs: all[at], revision } }
    }
    if (method === 'PUT') all = [...all.slice(0, ++at), body!.document as StudyDoc]
    else if (path.includes('/undo') && at) at--
    else if (path.includes('/redo') && at < all.length - 1) at++
    if (method !== 'GET') revision++
    await new Promise((go) => setTimeout(go, slow()))
    return out()
  })
  return { calls, now: () => all[at].note, conflicts: () => conflicts }
}

describe('undo', () => {
  it('three times at once takes three edits back', async () => {
    const { now, conflicts } = history(() => 40)
    const study = useStudy()
    void study.load('s')
    await vi.runAllTimersAsync()
    for (const c of 'abcd') study.edit('Write', (d) => (d.note += c))
    for (let i = 0; i < 3; i++) void study.step('undo')
    await vi.runAllTimersAsync()
    expect([study.state, study.doc!.note, now(), conflicts()]).toEqual(['saved', 'a', 'a', 0])
    expect([study.undoLabel, study.redoLabel]).toEqual(['x', 'x'])
  })

  it('and edits, however quick and whatever is under way, come to what they come to one by one', async () => {
    let seed = 1
    const random = () => (seed = (seed * 48271) % 2147483647) / 2147483647
    for (let round = 0; round < 60; round++) {
      const { now, conflicts } = history(() => Math.round(random() * 60))
      const study = useStudy()
      void study.load('s')
      await vi.runAllTimersAsync()
      const done = ['']
      let at = 0
      for (let i = 0; i < 12; i++) {
        const what = random()
        if (what < 0.55) {
          const c = String.fromCharCode(97 + i)
          study.edit('Write', (d) => (d.note += c))
          done.splice(at + 1, Infinity, done[at++] + c)
        } else if (what < 0.85) {
          void study.step('undo')
          at = Math.max(0, at - 1)
        } else {
          void study.step('redo')
          at = Math.min(done.length - 1, at + 1)
        }
        await vi.advanceTimersByTimeAsync(random() < 0.5 ? 0 : Math.round(random() * 400))
      }
      await vi.runAllTimersAsync()
      expect([study.doc!.note, now(), study.state, conflicts()]).toEqual([done[at], done[at], 'saved', 0])
    }
  })

  it('of what was dragged leaves the next drag of the same thing an edit of its own', async () => {
    const { study, saved } = await opened()
    for (const v of [2, 3]) speed(study, v)
    void study.step('undo')
    speed(study, 5)
    await vi.runAllTimersAsync()
    expect(saved().map((c) => (c.body!.document as StudyDoc).fields[0].steps[0].params.speed)).toEqual([3, 5])
  })
})

describe('a study that is left', () => {
  it('is saved into itself, and the next has nothing of it', async () => {
    const { study, saved } = await opened()
    study.edit('Rename', (d) => (d.name = 'Mine'))
    void study.flush()
    void study.load('t')
    await vi.runAllTimersAsync()
    expect(saved().map((c) => c.path)).toEqual(['/studies/s'])
    study.edit('Note', (d) => (d.note = 'x'))
    await vi.runAllTimersAsync()
    expect((saved().at(-1)!.body!.document as StudyDoc).name).toBe('Test')
  })

  it('in conflict keeps in its history what was typed', async () => {
    const { study, calls } = await conflicting()
    conflict = null
    void study.load('t')
    await vi.runAllTimersAsync()
    putAside(calls)
    expect([study.state, study.theirs, study.doc!.name]).toEqual(['saved', null, 'Test'])
    study.edit('Note', (d) => (d.note = 'x'))
    await vi.runAllTimersAsync()
    expect(calls.at(-1)!.body!.document).toMatchObject({ fields: [{ steps: [{ params: { speed: 1 } }] }] })
  })
})
