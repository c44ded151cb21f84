/** Runs of the open study: which is shown, what is followed, and who chose a frame stays there. */
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { nextTick, watch } from 'vue'
import type { RunOut, StudyDoc } from '../src/api/model'
import { seen } from '../src/lib/seen'
import { useRuns } from '../src/stores/runs'
import { useStudy } from '../src/stores/study'
import { REAL } from './real'
import { doc, serve } from './setup'

vi.mock('../src/forms/frames', async (original) => ({
  ...(await original<object>()),
  loadFrame: (identity: string, frame: number) => {
    if (broken.has(frame)) return Promise.reject(new Error('frame 3 is damaged'))
    return Promise.resolve({ identity, frame, parts: [], facts: {} })
  },
}))
const broken = new Set<number>()
class Events {
  static last: Events | null = null
  onmessage: ((e: { data: string }) => void) | null = null
  onerror: (() => void) | null = null
  closed = false
  constructor(public address: string) {
    Events.last = this
  }
  close() {
    this.closed = true
  }
  /** The server tells of runs. */
  async tell(...runs: RunOut[]) {
    this.onmessage!({ data: JSON.stringify({ runs, order: runs.map((r) => r.identity), revision: null }) })
    await settled()
  }
}
const settled = async () => {
  for (let i = 0; i < 12; i++) await nextTick()
}
const step = (id: string, op: string, params = {}) => ({ id, op, on: true, params })
const flow = (id: string, ...steps: unknown[]) => ({ id, name: id.toUpperCase(), kind: 'particles', steps })
const run = (identity: string, flow: string, frames: number, state = 'running', more = {}): RunOut =>
  ({
    identity,
    flow,
    kind: 'particles',
    study: 's',
    quality: 'preview',
    state,
    message: '',
    name: '',
    last: 10,
    frames: Array.from({ length: frames }, (_, i) => i + 1),
    ...more,
  }) as RunOut

let answers: Record<string, () => { status?: number; body: unknown }>
async function open(document: StudyDoc, at = 1) {
  let revision = 1
  const calls = serve(({ method, path, body }) => {
    if (path === '/runs' && method === 'POST') {
      const made = answers[String(body!.flow)]
      return made ? made() : { body: run(`run-${body!.flow}`, String(body!.flow), 0, 'waiting') }
    }
    if (path.startsWith('/runs/')) return { body: run('x', 'p', 0, 'stopped') }
    const d = method === 'PUT' ? body!.document : document
    return { body: { key: 's', document: d, revision: revision++, undo: null, redo: null } }
  }, REAL)
  const [study, runs] = [useStudy(), useRuns()]
  await study.load('s')
  runs.open('s', at)
  return { study, runs, calls, begun: () => calls.filter((c) => c.path === '/runs' && c.method === 'POST') }
}
const one = () => doc({ flows: [flow('p', step('e', 'emit'))] as never })
const two = () => doc({ flows: [flow('p', step('e', 'emit')), flow('q', step('e', 'emit')), flow('r')] as never })

beforeEach(() => {
  vi.useFakeTimers()
  vi.stubGlobal('EventSource', Events)
  answers = {}
  broken.clear()
})
afterEach(async () => {
  useRuns().close()
  await vi.advanceTimersByTimeAsync(3000) // what was begun ends: it counts as being on its way to the screen
})

// the first here: what other tests leave on the way to the screen is on it for good
describe('the page', () => {
  it('is not at rest while a run is followed', async () => {
    const { runs } = await open(one())
    const rests = () => document.documentElement.dataset.rest !== undefined
    await runs.runNow()
    await Events.last!.tell(run('run-p', 'p', 4))
    await vi.advanceTimersByTimeAsync(200)
    expect(rests()).toBe(false)
    await Events.last!.tell(run('run-p', 'p', 10, 'done'))
    await vi.advanceTimersByTimeAsync(200)
    expect(rests()).toBe(true)
  })
})

describe('runs', () => {
  it('begin for every flow that has steps, that of the selected lane first', async () => {
    const { study, runs, begun } = await open(two())
    study.select({ kind: 'lane', id: 'q' })
    expect(runs.main).toBe('q')
    await runs.start()
    expect(begun().map((c) => c.body!.flow)).toEqual(['q', 'p'])
    expect(runs.wanted).toEqual({ p: 'run-p', q: 'run-q' })
    expect(runs.isFresh('p')).toBe(false)
  })
  it('are told when there is none to begin', async () => {
    const { runs } = await open(doc())
    await runs.start()
    expect(runs.problem).toContain('There is no flow to run')
  })
  it('that are refused say why, by lane; others begin', async () => {
    answers.p = () => ({ status: 422, body: { message: 'nothing is born' } })
    const { runs } = await open(two())
    await runs.start()
    expect(runs.problem).toBe('nothing is born')
    expect(runs.failureOf('p')).toBe('nothing is born')
    expect(runs.failureOf('q')).toBe('')
    expect(runs.wanted).toEqual({ q: 'run-q' })
  })
  it('begin by themselves soon after the first steps were saved, and say nothing of a lane that cannot', async () => {
    answers.p = () => ({ status: 422, body: { message: 'nothing is born' } })
    const { study, runs, begun } = await open(doc({ flows: [flow('p')] as never }))
    study.edit('Add', (d) => (d.flows[0].steps = [step('e', 'emit')] as never))
    await vi.advanceTimersByTimeAsync(300)
    expect(begun()).toHaveLength(0)
    await vi.advanceTimersByTimeAsync(400)
    expect(begun()).toHaveLength(1)
    expect(runs.problem).toBe('')
  })
  it('that were wanted where there was nothing to run begin as soon as there is, and nobody asks again', async () => {
    const { study, runs, begun } = await open(doc({ flows: [flow('p')] as never }))
    await runs.runNow()
    expect(runs.problem).toContain('There is no flow to run')
    study.edit('Begin', (d) => (d.flows[0].steps = [step('e', 'emit')] as never))
    await vi.advanceTimersByTimeAsync(800)
    expect(begun()).toHaveLength(1)
    expect([runs.problem, runs.wanted]).toEqual(['', { p: 'run-p' }])
  })
  it('of full quality do not begin by themselves', async () => {
    const { study, runs, begun } = await open(one())
    await runs.start('full')
    study.edit('Rename', (d) => (d.flows[0].steps[0].params = { rate: 5 }))
    await vi.advanceTimersByTimeAsync(2000)
    expect(begun()).toHaveLength(1)
  })
  it('that go are stopped, those that have ended are not asked to', async () => {
    const { runs, calls } = await open(two())
    await runs.start()
    await Events.last!.tell(run('run-p', 'p', 2), run('run-q', 'q', 10, 'done'))
    await runs.stop()
    expect(calls.filter((c) => c.path.endsWith('/stop')).map((c) => c.path)).toEqual(['/runs/run-p/stop'])
  })
})

describe('the frame', () => {
  it('follows a run that goes, and lets go when it has ended', async () => {
    const { runs } = await open(one())
    await runs.runNow()
    await Events.last!.tell(run('run-p', 'p', 4))
    expect([runs.frame, runs.following, runs.current?.frame]).toEqual([4, true, 4])
    await Events.last!.tell(run('run-p', 'p', 10, 'done'))
    expect([runs.frame, runs.following]).toEqual([10, false])
  })
  it('waits while nobody can see the window, and is the newest when somebody can', async () => {
    const { runs } = await open(one())
    await runs.runNow()
    await Events.last!.tell(run('run-p', 'p', 4))
    seen.value = false
    await Events.last!.tell(run('run-p', 'p', 7))
    expect([runs.frame, runs.following, runs.current?.frame]).toEqual([4, true, 4])
    await Events.last!.tell(run('run-p', 'p', 10, 'done'))
    expect(runs.frame).toBe(4)
    seen.value = true
    await settled()
    expect([runs.frame, runs.following, runs.current?.frame]).toEqual([10, false, 10])
  })
  it('stays where somebody went, also when a run begins by itself after that', async () => {
    const { runs, study } = await open(one())
    runs.go(3)
    study.edit('More', (d) => (d.flows[0].steps[0].params = { rate: 5 }))
    await vi.advanceTimersByTimeAsync(800)
    expect(runs.wanted).toEqual({ p: 'run-p' })
    await Events.last!.tell(run('run-p', 'p', 8))
    expect([runs.frame, runs.following]).toEqual([3, false])
    await runs.runNow() // who presses Run looks at what comes
    await Events.last!.tell(run('run-p', 'p', 9))
    expect(runs.frame).toBe(9)
  })
  it('stays on the clock', async () => {
    const { runs } = await open(one())
    runs.go(-4)
    expect(runs.frame).toBe(1)
    runs.go(99.4)
    expect(runs.frame).toBe(10)
    expect(runs.time).toBeCloseTo(9 / 24)
  })
  it('is played from the first when a whole run is run again', async () => {
    answers.p = () => ({ body: run('run-p', 'p', 10, 'done') })
    const { runs } = await open(one())
    await runs.start()
    await Events.last!.tell(run('run-p', 'p', 10, 'done'))
    runs.go(1)
    await settled()
    await runs.runNow()
    expect(runs.playing).toBe(true)
    await vi.advanceTimersByTimeAsync(1000)
    expect(runs.frame).toBeGreaterThan(3)
    runs.play(false)
  })
  it('tells what is lacking on it, and what was shown before is stale after an edit', async () => {
    const { runs, study } = await open(two())
    await runs.start()
    await Events.last!.tell(run('run-p', 'p', 10, 'done'), run('run-q', 'q', 2))
    runs.go(5)
    await settled()
    expect(runs.lacking(5)).toEqual({ names: ['Q'], goes: true })
    expect(runs.isShown(5)).toBe(true)
    expect(runs.stale).toBe(false)
    answers.p = () => ({ body: run('other', 'p', 0, 'waiting') })
    study.edit('More', (d) => (d.flows[0].steps[0].params = { rate: 5 }))
    await vi.advanceTimersByTimeAsync(800)
    expect(runs.isStale('p')).toBe(true)
    expect(runs.shown.p.identity).toBe('run-p')
  })
  it('is not drawn again as others come', async () => {
    const { runs } = await open(one())
    await runs.runNow()
    await Events.last!.tell(run('run-p', 'p', 4))
    runs.go(2)
    await settled()
    const pictures: unknown[] = []
    const end = watch([() => runs.shown, () => runs.drawn], (now) => pictures.push(now))
    for (const n of [5, 6, 7]) await Events.last!.tell(run('run-p', 'p', n))
    expect(pictures).toEqual([])
    runs.go(3)
    await settled()
    expect([pictures.length, runs.current?.frame]).toEqual([1, 3])
    end()
  })
  it('that cannot be read is told', async () => {
    const { runs } = await open(one())
    broken.add(3)
    await runs.start()
    await Events.last!.tell(run('run-p', 'p', 10, 'done'))
    runs.go(3)
    await settled()
    expect(runs.problem).toContain('damaged')
  })
  it('shows nothing of a flow whose run failed before its first', async () => {
    const { runs, study } = await open(one())
    await runs.start()
    await Events.last!.tell(run('run-p', 'p', 10, 'done'))
    expect(runs.shown.p).toBeDefined()
    answers.p = () => ({ body: run('bad', 'p', 0, 'failed', { message: 'too large' }) })
    study.edit('More', (d) => (d.flows[0].steps[0].params = { rate: 5 }))
    await vi.advanceTimersByTimeAsync(800)
    await settled()
    expect(runs.shown.p).toBeUndefined()
    expect(runs.failureOf('p')).toBe('too large')
  })
})

describe('what the page tells by itself', () => {
  it('is that the server is away, and that it is back', async () => {
    const { runs } = await open(one())
    Events.last!.onerror!()
    expect(runs.connected).toBe(false)
    await Events.last!.tell()
    expect(runs.connected).toBe(true)
    const source = Events.last!
    runs.close()
    expect(source.closed).toBe(true)
  })
})
