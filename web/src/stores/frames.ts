/** One frame of a run as it is drawn. */
import { arrays } from '../api/client'
import type { Lane, Vec3 } from '../api/types'
import { loadVolume, type Volume } from './volumes'

/** Positions in their box in 16 bits, the channel that colours in 8; of gas a volume instead. */
export interface Frame {
  identity: string; frame: number; count: number; lower: Vec3; upper: Vec3; low: number; high: number; unit: string; colour: string
  position: Uint16Array; tone: Uint8Array; left: Uint8Array
  volume?: Volume
}
export const UNITS: Record<string, string> = { vel: 'm/s', temperature: 'K' }
/** The unit of a gas channel: a copy has that of what it copies; null where nobody knows (formulas, channels of one's own). */
export function unitOf(channel: string, lane: Lane | undefined): string | null {
  if (UNITS[channel]) return UNITS[channel]
  const made = lane?.steps.find((s) => s.on && (s.op === 'channel' ? (s.params.name ?? 'glow') === channel : s.op === 'formula' && (s.params.channel ?? 'display') === channel))
  if (!made) return ''
  return made.op === 'channel' && made.params.copies && made.params.copies !== channel ? unitOf(String(made.params.copies), lane) : null
}
export const sizeOf = (f: Frame) => f.volume?.texels.length ?? f.count * 8

export async function loadFrame(identity: string, n: number, gas: boolean, colour: string, absorb: number): Promise<Frame> {
  if (gas) return ofVolume(await loadVolume(identity, n, colour === 'smoke' ? '' : colour, absorb), colour)
  const { facts, arrays: a } = await arrays<Omit<Frame, 'position' | 'tone' | 'left'>>(`/runs/${identity}/frames/${n}?colour=${encodeURIComponent(colour)}`)
  return { ...facts, identity, position: a.position as Uint16Array, tone: a.tone as Uint8Array, left: a.left as Uint8Array }
}
export function ofVolume(volume: Volume, colour: string): Frame {
  const none = new Uint8Array(0)
  return { identity: volume.identity, frame: volume.frame, count: volume.voxels, lower: volume.lower, upper: volume.lower, low: volume.low, high: volume.tops.channel ?? volume.tops.density, unit: UNITS[colour] ?? '', colour, position: new Uint16Array(0), tone: none, left: none, volume }
}
/** What particles can be coloured by: what every run has, and what the lane's Channel steps add. */
export function particleChannels(lane: Lane | undefined): { id: string; name: string }[] {
  const own = (lane?.steps ?? []).filter((s) => s.op === 'channel' && s.on)
  const added = own.map((s) => (['field', 'formula'].includes(String(s.params.what)) ? { id: String(s.params.name ?? 'heat'), name: String(s.params.name ?? 'heat') } : { id: 'travelled', name: 'length of the way' }))
  return [
    { id: 'speed', name: 'speed' }, { id: 'climb', name: 'upward speed' }, { id: 'direction', name: 'direction' }, { id: 'age', name: 'age' },
    { id: 'share', name: 'share of life' }, { id: 'number', name: 'one colour each' }, ...added,
  ]
}
/** The same of gas, by the names of a frame. */
export const gasChannels = (names: string[]) => [{ id: 'smoke', name: 'smoke and heat' }, ...names.map((id) => ({ id, name: id === 'vel' ? 'speed' : id }))]
