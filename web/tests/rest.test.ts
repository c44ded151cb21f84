/** The page tells when nothing is on its way to the screen. */
import { beforeEach, expect, it, vi } from 'vitest'
import { afterwards, callOff, counted, lasting, underWay } from '../src/lib/rest'
import { call, newest } from '../src/api/client'
import { serve } from './setup'

const rests = () => document.documentElement.dataset.rest !== undefined
const frames = () => vi.advanceTimersByTimeAsync(100)

beforeEach(async () => {
  vi.useFakeTimers()
  underWay()()
  await frames()
  expect(rests()).toBe(true)
})

it('is not at rest while anything goes, and two frames after the last of it ended', async () => {
  const ends = [underWay(), underWay()]
  expect(rests()).toBe(false)
  ends[0]()
  ends[0]() // more often does no harm
  await frames()
  expect(rests()).toBe(false)
  ends[1]()
  expect(rests()).toBe(false)
  await frames()
  expect(rests()).toBe(true)
})
it('is not told when something began within these frames', async () => {
  const first = underWay()
  first()
  const second = underWay()
  await frames()
  expect(rests()).toBe(false)
  second()
  await frames()
  expect(rests()).toBe(true)
})
it('counts a wait until it is over or called off, and what it does then', async () => {
  let done = 0
  afterwards(() => done++, 500)
  const other = afterwards(() => done++, 5000)
  await vi.advanceTimersByTimeAsync(600)
  expect([done, rests()]).toEqual([1, false])
  callOff(other)
  callOff(other)
  await vi.advanceTimersByTimeAsync(6000)
  expect([done, rests()]).toEqual([1, true])
})
it('counts work that fails, and what lasts', async () => {
  await expect(counted(Promise.reject(new Error('no')))).rejects.toThrow('no')
  const moving = lasting()
  moving(true)
  moving(true)
  await frames()
  expect(rests()).toBe(false)
  moving(false)
  await frames()
  expect(rests()).toBe(true)
})
it('waits for answers that are seen and not for numbers that come after the pictures', async () => {
  const gates: (() => void)[] = []
  serve(() => new Promise((done) => gates.push(() => done({ body: {} }))))
  const numbers = newest('reading', '/look/reading', {})
  await frames()
  expect(rests()).toBe(true)
  const [picture, thing] = [newest('probe', '/look/probe', {}), call('GET', '/thing')]
  expect(rests()).toBe(false)
  await frames()
  gates.forEach((open) => open())
  await vi.advanceTimersByTimeAsync(400)
  await Promise.all([numbers, picture, thing])
  await frames()
  expect(rests()).toBe(true)
})
