/** Frames of gas as the view takes them: four bytes a voxel. */
import { arrays } from '../api/client'
import type { Vec3 } from '../api/types'

interface Facts {
  frame: number; identity: string; names: string[]; tops: { density: number; light: number; temperature: number; channel?: number }; low: number
  lower: Vec3; size: Vec3; shape: Vec3; axes: number[][]; voxel_size: number; voxels: number; channel: string
}
/** What two channels differ by, in numbers. */
export interface Difference { greatest: number; at: Vec3; rms: number; mean: number; share: number; same: boolean }
/** Texels RGBA, x fastest: density, light, temperature, the chosen channel, each a share of its top. */
export interface Volume extends Facts { texels: Uint8Array<ArrayBuffer>; colours: Uint8Array<ArrayBuffer> | null }

export async function loadVolume(identity: string, frame: number, channel: string, absorb: number): Promise<Volume> {
  const { facts, arrays: a } = await arrays<Facts>(`/runs/${identity}/frames/${frame}/volume?channel=${encodeURIComponent(channel)}&absorb=${absorb}`)
  const count = a.density.length
  const texels = new Uint8Array(count * 4)
  const parts = [a.density, a.light, a.temperature, a.channel ?? a.density]
  for (let c = 0; c < 4; c++) for (let i = 0, o = c, p = parts[c]; i < count; i++, o += 4) texels[o] = p[i]
  let colours: Uint8Array<ArrayBuffer> | null = null
  if (a.red) {
    colours = new Uint8Array(count * 4)
    for (let i = 0, o = 0; i < count; i++, o += 4) { colours[o] = a.red[i]; colours[o + 1] = a.green[i]; colours[o + 2] = a.blue[i]; colours[o + 3] = 255 }
  }
  return { ...facts, identity, texels, colours }
}

/** b − a as a volume of one signed channel; numbers alone of particles. */
export async function loadDifference(a: string, b: string, frame: number, of: string, to: string): Promise<{ volume: Volume | null; numbers: Difference | Record<string, number> }> {
  const { facts, arrays: x } = await arrays<Facts & { kind: string; numbers: Difference }>(`/compare?a=${a}&b=${b}&frame=${frame}&of=${encodeURIComponent(of)}&to=${encodeURIComponent(to)}`)
  if (!x.channel) return { volume: null, numbers: facts.numbers }
  const texels = new Uint8Array(x.channel.length * 4)
  for (let i = 0; i < x.channel.length; i++) texels[4 * i + 3] = x.channel[i]
  return { volume: { ...facts, texels, colours: null }, numbers: facts.numbers }
}
