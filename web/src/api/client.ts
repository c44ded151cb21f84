/** One thin client: JSON, arrays, errors in words, newest request wins. */
import { compiling, untilCompiled, type Compiling } from '../lib/compiling'
import { counted } from '../lib/rest'
import { save } from '../lib/taken'
import type { components } from './schema'

export type StudyCard = components['schemas']['StudyCard']
export type MeshAdded = components['schemas']['MeshAdded']
export type Revision = components['schemas']['Rev']

export class ApiError extends Error {
  constructor(
    public status: number,
    message: string,
    public body: Record<string, unknown> = {},
  ) {
    super(message)
  }
}
export class Offline extends Error {}

const tab = Math.random().toString(36).slice(2)
/** One channel of pictures: what is under way, and the newest request that waits for it. */
interface Channel {
  serial: number
  flying: AbortController | null
  since: number
  waiting: ((go: boolean) => void) | null
  /** Until the answer before is drawn. */
  drawn: Promise<void>
}
const channels = new Map<string, Channel>()
/** How long a request may hold up a newer one: quick ones are finished, so that a drag shows pictures all the way; slow
 * ones are cancelled. */
const PATIENCE = 300

/** Looks under way at once: a browser has six connections to a server, and others need some of them too. */
const MOST_LOOKS = 4
/** Milliseconds after which a look is given up here: the server gives one up after 30 s in words, a dead one never. */
const LONGEST = 45_000
let looks = 0
const gate: (() => void)[] = []
/** Wait until one of the places for looks is free; not at all if it is given up. */
const waitForPlace = (signal: AbortSignal) =>
  new Promise<void>((go, refuse) => {
    gate.push(go)
    signal.addEventListener('abort', () => {
      const at = gate.indexOf(go)
      if (at >= 0) gate.splice(at, 1)
      refuse(new DOMException('given up', 'AbortError'))
    })
  })
function leave() {
  looks--
  gate.shift()?.()
}

let flights = 0
/** Whether no answer is waited for. */
export const idle = () => flights === 0

async function send(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<Response> {
  flights++
  try {
    return await sent(method, path, body, signal)
  } finally {
    flights--
  }
}
/** What needs a kernel that this machine has not compiled yet is asked for again until it is there. */
async function sent(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<Response> {
  for (;;) {
    try {
      return await sentOnce(method, path, body, signal)
    } catch (error) {
      const told = error instanceof ApiError && (error.body.compiling as Compiling | undefined)
      if (!told) throw error
      await untilCompiled(told, signal)
    }
  }
}
async function sentOnce(method: string, path: string, body?: unknown, signal?: AbortSignal): Promise<Response> {
  const raw = body instanceof Blob || body instanceof FormData
  let response: Response
  try {
    response = await fetch(`/api${path}`, {
      method,
      signal,
      headers: { 'X-Errant-Gust': '1', ...(body !== undefined && !raw ? { 'Content-Type': 'application/json' } : {}) },
      body: body === undefined ? undefined : raw ? (body as BodyInit) : JSON.stringify(body),
    })
  } catch (error) {
    if ((error as Error).name === 'AbortError') throw error
    throw new Offline('The server does not answer')
  }
  if (!response.ok) {
    const text = await response.text()
    let said: Record<string, unknown> = {}
    try {
      said = JSON.parse(text)
    } catch {
      /* not JSON: the status says it */
    }
    throw new ApiError(
      response.status,
      String(said.message ?? said.what ?? `The server answered ${response.status}`),
      said,
    )
  }
  return response
}

export function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  return counted(asked<T>(method, path, body))
}
/** Ask for what nobody waits to see. */
export async function asked<T>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await send(method, path, body)
  const text = await response.text()
  return (text ? JSON.parse(text) : null) as T
}

export type Arrays = Record<string, Float32Array | Int32Array | Uint32Array | Uint16Array | Uint8Array | Int8Array>
export interface Packed<F> {
  facts: F
  arrays: Arrays
  shapes: Record<string, number[]>
}

export function unpack<F>(buffer: ArrayBuffer): Packed<F> {
  const head = new DataView(buffer).getUint32(0, true)
  const facts = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, head)))
  const arrays: Arrays = {}
  const shapes: Record<string, number[]> = {}
  for (const a of facts.arrays as { name: string; type: string; shape: number[]; offset: number }[]) {
    const count = a.shape.reduce((x, y) => x * y, 1)
    const make =
      { f4: Float32Array, u4: Uint32Array, u2: Uint16Array, u1: Uint8Array, i1: Int8Array, i4: Int32Array }[a.type] ??
      Int32Array
    arrays[a.name] = new make(buffer, 4 + head + a.offset, count)
    shapes[a.name] = a.shape
  }
  return { facts, arrays, shapes }
}

export async function arrays<F>(path: string, body?: object): Promise<Packed<F>> {
  const whole = async () => (await send(body ? 'POST' : 'GET', path, body)).arrayBuffer()
  return unpack<F>(await counted(whole()))
}

/** The next frame has been drawn, or so many milliseconds have passed (a hidden page draws none). */
const drawnOr = (most: number) =>
  new Promise<void>((done) => {
    setTimeout(done, most)
    requestAnimationFrame(() => setTimeout(done))
  })

/** A request on a channel, one at a time: of those that come while one is under way only the newest is sent after it;
 * null if this one was overtaken. */
export function newest(channel: string, path: string, body: object): Promise<Response | null> {
  const answer = newestOf(channel, path, body)
  return BESIDE.has(channel) ? answer : counted(answer)
}
/** Channels of numbers that come after the pictures. */
const BESIDE = new Set(['reading', 'checks', 'value', 'cost'])
async function newestOf(channel: string, path: string, body: object): Promise<Response | null> {
  let c = channels.get(channel)
  if (!c) channels.set(channel, (c = { serial: 0, flying: null, since: 0, waiting: null, drawn: Promise.resolve() }))
  const line = c
  if (line.flying) {
    line.waiting?.(false)
    const before = line.flying
    const late = setTimeout(() => before.abort(), Math.max(0, line.since + PATIENCE - performance.now()))
    const go = await new Promise<boolean>((decide) => {
      line.waiting = decide
    })
    clearTimeout(late)
    if (!go) return null
  }
  const control = new AbortController()
  Object.assign(line, { flying: control, since: performance.now(), waiting: null })
  let late = false
  let held = false
  const over = window.setInterval(() => {
    if (compiling.value) return // nothing is late then
    late = true
    control.abort()
  }, LONGEST)
  try {
    if (looks >= MOST_LOOKS) await waitForPlace(control.signal)
    looks++
    held = true
    const response = await send(
      'POST',
      path,
      { ...body, channel: `${tab}.${channel}`, serial: ++line.serial },
      control.signal,
    )
    // the whole of it is read here: it may be overtaken while its answer is still arriving
    return response.status === 204 ? null : new Response(await response.arrayBuffer(), response)
  } catch (error) {
    if (late) throw new ApiError(503, 'The server gave no answer: what is shown may be of before')
    if ((error as Error).name === 'AbortError') return null
    throw error
  } finally {
    clearInterval(over)
    if (held) leave()
    // at most one answer stands undrawn: what waits is sent as this one arrives, once the one before it was drawn
    const before = line.drawn
    line.drawn = drawnOr(150)
    void before.then(() => {
      const next = line.waiting
      Object.assign(line, { since: performance.now(), waiting: null })
      if (next)
        next(true) // the place stays taken, so that nobody slips in between
      else line.flying = null
    })
  }
}

export async function newestArrays<F>(channel: string, path: string, body: object): Promise<Packed<F> | null> {
  const response = await newest(channel, path, body)
  return response ? unpack<F>(await response.arrayBuffer()) : null
}

export async function upload(path: string, file: File): Promise<MeshAdded> {
  const form = new FormData()
  form.append('file', file)
  return (await (await send('POST', `${path}?name=${encodeURIComponent(file.name)}`, form)).json()) as MeshAdded
}

export async function uploadScene(
  study: string,
  files: File[],
  up: string,
  unit: string,
): Promise<components['schemas']['SceneOut']> {
  const form = new FormData()
  for (const file of files) form.append('file', file)
  const asked = new URLSearchParams({ up, unit })
  return (await (
    await send('POST', `/studies/${study}/scenes?${asked}`, form)
  ).json()) as components['schemas']['SceneOut']
}

export async function uploadStudy(file: File): Promise<{ key: string }> {
  const form = new FormData()
  form.append('file', file)
  return (await (await send('POST', `/archives?name=${encodeURIComponent(file.name)}`, form)).json()) as { key: string }
}

export async function uploadFile(path: string, file: File, sort: string): Promise<{ file: string; said: string }> {
  const form = new FormData()
  form.append('file', file)
  return (await (await send('POST', `${path}?name=${encodeURIComponent(file.name)}&sort=${sort}`, form)).json()) as {
    file: string
    said: string
  }
}

export async function download(method: string, path: string, name: string, body?: unknown): Promise<number> {
  const blob = await (await send(method, path, body)).blob()
  save(blob, name)
  return blob.size
}
