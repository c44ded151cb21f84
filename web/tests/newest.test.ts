/** Newest wins: one request at a time on a channel, and of those that wait only the last is sent. */
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { newest } from '../src/api/client'
import { serve } from './setup'

beforeEach(() => {
  vi.useFakeTimers()
})

/** Answers that are given when they are asked to be. */
function held() {
  const gates: (() => void)[] = []
  const calls = serve(({ body }) => new Promise((done) => gates.push(() => done({ body: { n: body!.n } }))))
  return { gates, calls }
}
const number = async (r: Promise<Response | null>) => ((await r)?.json() ?? null) as Promise<{ n: number } | null>

describe('requests on a channel', () => {
  it('are sent one at a time, and those that are overtaken are never sent', async () => {
    const { gates, calls } = held()
    const [a, b, c] = [1, 2, 3].map((n) => number(newest('one', '/look/x', { n })))
    await vi.advanceTimersByTimeAsync(10)
    expect(calls.map((x) => x.body!.n)).toEqual([1])
    gates[0]()
    await vi.advanceTimersByTimeAsync(400)
    expect(calls.map((x) => x.body!.n)).toEqual([1, 3])
    gates[1]()
    await vi.advanceTimersByTimeAsync(400)
    expect([await a, await b, await c]).toEqual([{ n: 1 }, null, { n: 3 }])
    expect(calls[1].body!.serial).toBeGreaterThan(calls[0].body!.serial as number)
  })

  it('do not hold up those of another channel', async () => {
    const { gates, calls } = held()
    const both = [number(newest('two', '/look/x', { n: 1 })), number(newest('three', '/look/x', { n: 2 }))]
    await vi.advanceTimersByTimeAsync(10)
    expect(calls).toHaveLength(2)
    gates.forEach((open) => open())
    await vi.advanceTimersByTimeAsync(400)
    expect(await Promise.all(both)).toEqual([{ n: 1 }, { n: 2 }])
  })
})
