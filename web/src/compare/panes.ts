/** What each picture of the Compare screen shows; kept in the address, so that it can be kept and sent. */
import type { Form, RunOut, StudyDoc, Vec3 } from '../api/model'
import { SMOKE } from '../forms/channels'

export interface Pane {
  run: string
  channel: string
}
/** How all pictures map values to colours. low, high: null fits them to all pictures of the frame. */
export interface Mapped {
  map: 'sequential' | 'diverging' | 'heat'
  low: number | null
  high: number | null
  absorb: number
}
export interface Seen {
  position: Vec3
  target: Vec3
  parallel: boolean
}
export const MOST = 9

export const written = (panes: Pane[]) => panes.map((p) => `${p.run}:${p.channel}`).join(',')
export function read(text: unknown, runs: RunOut[]): Pane[] {
  const parts = typeof text === 'string' ? text.split(',') : []
  return parts
    .map((p) => p.split(':'))
    .filter(([run]) => runs.some((r) => r.identity === run))
    .slice(0, MOST)
    .map(([run, channel]) => ({ run, channel: channel || '' }))
}
const MAPS = ['sequential', 'diverging', 'heat'] as const
/** Short, and near enough that the same pixels are drawn: with five digits 0.3 % of them were others. */
const short = (v: number) => Number(v.toPrecision(8))
/** Frame, mapping and camera in the address. */
export function writtenView(v: { frame: number; mapping: Mapped; camera: Seen | null }): Record<string, string> {
  const { map, low, high, absorb } = v.mapping
  return {
    frame: String(v.frame),
    map,
    thickness: String(absorb),
    ...(low !== null && high !== null ? { range: `${low},${high}` } : {}),
    ...(v.camera
      ? {
          camera:
            [...v.camera.position, ...v.camera.target].map(short).join(',') + (v.camera.parallel ? ',parallel' : ''),
        }
      : {}),
  }
}
/** The same read back; what is missing or makes no sense is left out. */
export function readView(query: Record<string, unknown>): {
  frame: number | null
  mapping: Partial<Mapped>
  camera: Seen | null
} {
  const numbers = (name: string) =>
    (typeof query[name] === 'string' ? query[name] : '')
      .split(',')
      .filter((x) => x && x !== 'parallel')
      .map(Number)
  const whole = (list: number[], n: number) => list.length === n && list.every(Number.isFinite)
  const [frame, range, camera, [absorb]] = [numbers('frame'), numbers('range'), numbers('camera'), numbers('thickness')]
  const mapping: Partial<Mapped> = {}
  const map = MAPS.find((m) => m === query.map)
  if (map) mapping.map = map
  if (whole(range, 2) && range[1] > range[0]) Object.assign(mapping, { low: range[0], high: range[1] })
  if (absorb > 0) mapping.absorb = absorb
  const seen = whole(camera, 6)
    ? {
        position: camera.slice(0, 3) as Vec3,
        target: camera.slice(3) as Vec3,
        parallel: String(query.camera).endsWith('parallel'),
      }
    : null
  return { frame: whole(frame, 1) ? frame[0] : null, mapping, camera: seen }
}
/** Two pictures worth comparing: two runs of the first flow that has them, or two channels of its newest run. */
export function first(runs: RunOut[], doc: StudyDoc, formOf: (kind: string) => Form | undefined): Pane[] {
  for (const flow of doc.flows) {
    const own = runs.filter((r) => r.flow === flow.id && r.frames.length)
    if (!own.length) continue
    const form = formOf(own[0].kind)
    if (form !== 'volume') {
      const like = own[1] ?? runs.find((r) => r.kind === own[0].kind && r.flow !== flow.id && r.frames.length)
      return [own[0], like ?? own[0]].map((r, i) => ({ run: r.identity, channel: like || !i ? 'speed' : 'age' }))
    }
    const both = (...names: string[]) => names.map((channel) => ({ run: own[0].identity, channel }))
    const made = flow.steps.filter((s) => s.on && s.op === 'channel')
    const copy = made.find((s) => s.params.copies)
    if (copy) return both(String(copy.params.copies), String(copy.params.name ?? 'glow'))
    if (made.length) return both(SMOKE, String(made[0].params.name ?? 'glow'))
    const other = own[1] ?? runs.find((r) => formOf(r.kind) === form && r.flow !== flow.id && r.frames.length)
    return other ? [own[0], other].map((r) => ({ run: r.identity, channel: 'density' })) : both(SMOKE, 'density')
  }
  return []
}
export function nameOf(run: RunOut, runs: RunOut[], doc: StudyDoc): string {
  if (run.name) return run.name
  const flow = doc.flows.find((f) => f.id === run.flow)?.name ?? run.flow
  const same = runs.filter((r) => r.flow === run.flow && r.quality === run.quality)
  const age = same.findIndex((r) => r.identity === run.identity)
  return `${flow} · ${run.quality} · ${age ? `${age} before` : 'newest'}`
}
