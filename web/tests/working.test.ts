import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, expect, test, vi } from 'vitest'
import { ApiError, newest } from '../src/api/client'
import { useWorking } from '../src/stores/working'

beforeEach(() => {
  setActivePinia(createPinia())
  vi.stubGlobal('requestAnimationFrame', (f: () => void) => setTimeout(f))
})

test('what took too long is told, and asked for once more', async () => {
  const work = useWorking()
  let times = 0
  await work.guarded('swatches', async () => {
    times++
    if (times === 1) throw new ApiError(503, 'this took longer than 30 s and was given up')
  })
  expect(work.problem).toContain('30 s')
  await work.guarded('reading', async () => {}) // another that was quick does not hide it
  expect(Object.values(work.late)[0].words).toContain('30 s')
  work.again()
  await vi.waitFor(() => expect(times).toBe(2))
  expect(work.late).toEqual({})
  expect(work.problem).toBe('')
})

test('another fault is told where it is, without another try', async () => {
  const work = useWorking()
  await work.guarded('swatches', async () => {
    throw new ApiError(422, 'the lanes use each other in a circle')
  })
  expect(work.late).toEqual({})
  expect(work.problem).toContain('circle')
})

test('looks leave connections for others, and those that nobody wants leave the gate', async () => {
  const open: ((r: Response) => void)[] = []
  const asked: string[] = []
  vi.stubGlobal('fetch', (path: string, init: { signal: AbortSignal }) => {
    asked.push(path)
    return new Promise<Response>((done, refuse) => {
      open.push(done)
      init.signal.addEventListener('abort', () => refuse(new DOMException('x', 'AbortError')))
    })
  })
  const answers = [0, 1, 2, 3, 4, 5].map((n) => newest(`c${n}`, `/look/${n}`, {}))
  await vi.waitFor(() => expect(asked).toHaveLength(4))
  open[0](new Response('{}'))
  await answers[0]
  await vi.waitFor(() => expect(asked).toHaveLength(5))
  const newer = newest('c5', '/look/newer', {}) // the one before it still waits at the gate: it is given up
  expect(await answers[5]).toBeNull()
  for (const n of [1, 2, 3, 4]) open[n](new Response('{}'))
  await vi.waitFor(() => expect(asked.at(-1)).toContain('newer'))
  open.at(-1)!(new Response('{}'))
  expect((await newer)!.status).toBe(200)
})
