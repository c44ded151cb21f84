/** A study that is open, as far as stores need it. */
import { createPinia, disposePinia, getActivePinia, setActivePinia } from 'pinia'
import { afterEach, vi } from 'vitest'
import type { Catalogue, StudyDoc } from '../src/api/model'
import { CATALOGUE } from './catalogue'

export function doc(more: Partial<StudyDoc> = {}): StudyDoc {
  const clock = { fps: 24, start: 1, end: 10, slow_motion: 1 }
  const plain = { format: 'errant-gust-study', version: 1, name: 'Test', note: '', clock } as const
  return { ...plain, shapes: [], regions: [], fields: [], flows: [], looks: {}, intended: [], ...more } as StudyDoc
}

interface Call {
  method: string
  path: string
  body: Record<string, unknown> | undefined
}
export type Answer = (call: Call) => { status?: number; body: unknown } | Promise<{ status?: number; body: unknown }>

// what a test began has begun: it would make its stores the active ones in the next, and what its stores would still
// do later finds neither page nor server
afterEach(async () => {
  vi.useRealTimers()
  await new Promise((done) => setTimeout(done))
  end()
})
function end() {
  const stores = getActivePinia()
  if (stores) disposePinia(stores)
}

let served = 0
/** Answers for the server; every call is kept. Stores of the test before get no answer any more. */
export function serve(answer: Answer, listed: Catalogue = CATALOGUE): Call[] {
  const mine = ++served
  end()
  setActivePinia(createPinia())
  const calls: Call[] = []
  vi.stubGlobal('fetch', async (path: string, how: RequestInit = {}) => {
    const body = typeof how.body === 'string' ? (JSON.parse(how.body) as Record<string, unknown>) : undefined
    const call = { method: how.method ?? 'GET', path: String(path).replace('/api', ''), body }
    calls.push(call)
    if (call.path === '/catalogue') return new Response(JSON.stringify(listed))
    const said = await answer(call)
    if (mine !== served) await new Promise(() => undefined)
    return new Response(JSON.stringify(said.body), { status: said.status ?? 200 })
  })
  return calls
}
