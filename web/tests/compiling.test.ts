/** What needs a kernel that is not compiled yet waits for it, and is then asked for once more. */
import { afterEach, beforeEach, expect, it, vi } from 'vitest'
import { call, newest } from '../src/api/client'
import CompilingNote from '../src/controls/CompilingNote.vue'
import { compiling } from '../src/lib/compiling'
import { mounted } from './real'
import { serve } from './setup'

let left: number | null = 40
const told = () => ({ share: 0.4, left })
let ready = false

beforeEach(() => {
  vi.useFakeTimers()
  ready = false
  left = 40
})
afterEach(() => {
  compiling.value = null
})
function served() {
  return serve(({ path, body }) => {
    if (path === '/compiling') return { body: ready ? null : told() }
    return ready ? { body: { n: body?.n ?? 0 } } : { status: 503, body: { message: 'compiling', compiling: told() } }
  })
}

it('waits, tells how long, and has its answer then', async () => {
  const calls = served()
  const [run, look] = [call<{ n: number }>('POST', '/runs', { n: 7 }), newest('probe', '/look/probe', { n: 8 })]
  await vi.advanceTimersByTimeAsync(5000)
  expect(compiling.value).toEqual({ share: 0.4, left: 40 })
  expect(calls.filter((c) => c.path === '/runs')).toHaveLength(1) // it is not asked for again and again
  await vi.advanceTimersByTimeAsync(120_000) // longer than anything else is waited for
  ready = true
  await vi.advanceTimersByTimeAsync(3000)
  expect(compiling.value).toBeNull()
  expect((await run).n).toBe(7)
  expect(((await (await look)!.json()) as { n: number }).n).toBe(8)
})
it('gives up what is overtaken meanwhile', async () => {
  const calls = served()
  const [first, second] = [newest('probe', '/look/probe', { n: 1 }), newest('probe', '/look/probe', { n: 2 })]
  await vi.advanceTimersByTimeAsync(5000)
  expect(await first).toBeNull()
  ready = true
  await vi.advanceTimersByTimeAsync(3000)
  expect(((await (await second)!.json()) as { n: number }).n).toBe(2)
  expect(calls.filter((c) => c.path === '/look/probe').map((c) => c.body!.n)).toEqual([1, 2, 2])
})
it('is told on the page with its share and the time left, and is not there otherwise', async () => {
  served()
  const page = await mounted(CompilingNote, {})
  expect(page.find('compiling')).toBeNull()
  await vi.advanceTimersByTimeAsync(1500)
  expect(page.find('compiling')!.textContent).toContain('about 40 s left')
  left = null
  await vi.advanceTimersByTimeAsync(1500)
  expect(page.find('compiling')!.textContent).toContain('40 %')
  ready = true
  await vi.advanceTimersByTimeAsync(1500)
  expect(page.find('compiling')).toBeNull()
  expect(page.faults).toEqual([])
  page.end()
})
