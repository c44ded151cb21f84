/** A study that is open, as far as stores need it. */
import { createPinia, setActivePinia } from 'pinia'
import { vi } from 'vitest'
import type { StudyDoc } from '../src/api/model'
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

/** Answers for the server; every call is kept. */
export function serve(answer: Answer): Call[] {
  setActivePinia(createPinia())
  const calls: Call[] = []
  vi.stubGlobal('fetch', async (path: string, how: RequestInit) => {
    const body = typeof how.body === 'string' ? (JSON.parse(how.body) as Record<string, unknown>) : undefined
    const call = { method: how.method ?? 'GET', path: String(path).replace('/api', ''), body }
    calls.push(call)
    if (call.path === '/catalogue') return new Response(JSON.stringify(CATALOGUE))
    const said = await answer(call)
    return new Response(JSON.stringify(said.body), { status: said.status ?? 200 })
  })
  return calls
}
