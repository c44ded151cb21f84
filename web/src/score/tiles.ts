/** Small pictures of flows for their cards: what a frame holds, seen from the front (x to the right, z up), in the box
 * that the flow is in; and where the shapes are that a step names. */
import type { FlowLook, Vec3 } from '../api/model'
import type { Frame, MeshPart, PointsPart, VolumePart } from '../forms/frames'
import { SMOKE } from '../forms/channels'
import { blackBody } from '../lib/blackbody'
import { maps, mixed } from '../lib/colour'
import { AIR, brightness, POWER } from '../scene/glow'

export interface Box {
  lower: Vec3
  upper: Vec3
}
/** Of the view's dark. */
const SEA = [15, 27, 45]
/** As many points or vertices are looked at, evenly taken, and as many layers of a volume. */
const MOST = 24_000
const LAYERS = 20

const made = new WeakMap<object, { key: string; data: ImageData }>()
const byte = (linear: number) => Math.round(255 * Math.min(1, linear) ** (1 / 2.2))

/** Where a point lies on a tile of so many pixels; z up. */
export function onTile(box: Box, size: number) {
  const wide = Math.max(box.upper[0] - box.lower[0], box.upper[2] - box.lower[2], 1e-6)
  const x0 = (box.lower[0] + box.upper[0] - wide) / 2
  const z0 = (box.lower[2] + box.upper[2] - wide) / 2
  return (x: number, z: number): [number, number] => [((x - x0) / wide) * size, size - ((z - z0) / wide) * size]
}

/** The square of a slice that a box lies in, as shares of the slice: left, top, side; all of it if it lies outside. */
export function within(slice: { origin: Vec3; u: Vec3; v: Vec3 }, box: Box): [number, number, number] {
  const along = (edge: Vec3) => {
    const axis = edge.findIndex((x) => x !== 0)
    const share = (x: number) => Math.max(0, Math.min(1, (x - slice.origin[axis]) / edge[axis]))
    return [share(box.lower[axis]), share(box.upper[axis])]
  }
  const [[left, right], [bottom, top]] = [along(slice.u), along(slice.v)]
  const side = Math.max(right - left, top - bottom)
  if (side <= 0) return [0, 0, 1]
  const from = (low: number, high: number) => Math.max(0, Math.min(1 - side, (low + high - side) / 2))
  return [from(left, right), 1 - side - from(bottom, top), side]
}

/** The picture of a frame, kept until the frame or its look is another. */
export function tileOf(frame: Frame, mesh: MeshPart | null, look: FlowLook, box: Box, size: number): ImageData {
  const key = JSON.stringify([box, size, look])
  const of = mesh ?? frame
  const known = made.get(of)
  if (known?.key === key) return known.data
  const data = new ImageData(size, size)
  for (let i = 0; i < size * size; i++) data.data.set([...SEA, 255], 4 * i)
  const parts = mesh ? [mesh] : frame.parts
  for (const part of parts) {
    if (part.form === 'volume') volume(data, part, look, box, size)
    else if (part.form === 'points') points(data, part, look, box, size)
    else if (part.form === 'mesh') vertices(data, part, look, box, size)
  }
  made.set(of, { key, data })
  return data
}

const tableOf = (look: FlowLook) => (look.map === 'mix' ? mixed(look.first, look.last) : maps[look.map])

function points(to: ImageData, part: PointsPart, look: FlowLook, box: Box, size: number) {
  const { lower, upper, count, low, high } = part.head
  const [from, until] = [look.low ?? low, look.high ?? high]
  const table = tableOf(look)
  const at = onTile(box, size)
  const every = Math.max(1, Math.ceil(count / MOST))
  // a few are drawn larger, so that they are seen
  const wide = count / every < 1500 ? 2 : 1
  for (let i = 0; i < count; i += every) {
    const [x, y] = at(
      lower[0] + (part.position[3 * i] / 65535) * (upper[0] - lower[0]),
      lower[2] + (part.position[3 * i + 2] / 65535) * (upper[2] - lower[2]),
    )
    const value = low + (part.tone[i] / 255) * (high - low)
    const k = 3 * Math.max(0, Math.min(255, Math.round((255 * (value - from)) / Math.max(until - from, 1e-9))))
    for (let v = 0; v < wide; v++)
      for (let u = 0; u < wide; u++) {
        const [px, py] = [Math.floor(x) + u, Math.floor(y) + v]
        if (px < 0 || py < 0 || px >= size || py >= size) continue
        const o = 4 * (px + size * py)
        const c = part.colours?.subarray(3 * i, 3 * i + 3) ?? table.subarray(k, k + 3)
        for (let a = 0; a < 3; a++) to.data[o + a] = Math.max(to.data[o + a], 60 + 0.76 * c[a])
      }
  }
}

function vertices(to: ImageData, part: MeshPart, look: FlowLook, box: Box, size: number) {
  const at = onTile(box, size)
  const count = part.vertices.length / 3
  const every = Math.max(1, Math.ceil(count / (4 * MOST)))
  const near = new Float32Array(size * size).fill(Infinity)
  const tint = [1, 3, 5].map((i) => parseInt(look.tint.slice(i, i + 2), 16) || 0)
  const table = tableOf(look)
  const wide = count / every < 6000 ? 2 : 1
  for (let i = 0; i < count; i += every) {
    const [x, y] = at(part.vertices[3 * i], part.vertices[3 * i + 2])
    const n = part.normals
    const light = n ? 0.45 + (0.3 * n[3 * i + 2] - 0.3 * n[3 * i + 1]) / 127 : 0.7
    const tone = look.paint === 'channel' && part.tone ? 3 * part.tone[i] : -1
    for (let v = 0; v < wide; v++)
      for (let u = 0; u < wide; u++) {
        const [px, py] = [Math.floor(x) + u, Math.floor(y) + v]
        if (px < 0 || py < 0 || px >= size || py >= size) continue
        const o = px + size * py
        if (part.vertices[3 * i + 1] >= near[o]) continue
        near[o] = part.vertices[3 * i + 1]
        for (let a = 0; a < 3; a++)
          to.data[4 * o + a] = Math.min(255, 1.5 * light * (tone < 0 ? tint[a] : table[tone + a]))
      }
  }
}

/** Along y through the box of the volume, as if its axes were those of the scene. */
function volume(to: ImageData, part: VolumePart, look: FlowLook, box: Box, size: number) {
  const { head, texels } = part
  const [nx, ny, nz] = head.shape
  const plain = look.colour !== SMOKE
  const table = tableOf(look)
  const low = look.low ?? head.low
  const high = look.high ?? head.tops.channel ?? 1
  const deep = head.size[1] / Math.min(ny, LAYERS)
  const tint = [1, 3, 5].map((i) => (parseInt(look.tint.slice(i, i + 2), 16) / 255) ** 2.2 || 0)
  const burns: [number, number[]][] = []
  for (let b = 0; b < 256; b++) {
    const kelvin = (b / 255) * head.tops.temperature
    burns.push([look.glow * brightness(kelvin, look), []])
  }
  const at = onTile(box, size)
  const [left, bottom] = at(head.lower[0], head.lower[2])
  const [right, top] = at(head.lower[0] + head.size[0], head.lower[2] + head.size[2])
  for (let py = Math.max(0, Math.floor(top)); py < Math.min(size, bottom); py++)
    for (let px = Math.max(0, Math.floor(left)); px < Math.min(size, right); px++) {
      const i = Math.min(nx - 1, Math.max(0, Math.floor(((px + 0.5 - left) / (right - left)) * nx)))
      const k = Math.min(nz - 1, Math.max(0, Math.floor(((bottom - py - 0.5) / (bottom - top)) * nz)))
      let through = 1
      const sum = [0, 0, 0]
      for (let l = 0; l < Math.min(ny, LAYERS); l++) {
        const j = Math.floor(((l + 0.5) / Math.min(ny, LAYERS)) * ny)
        const o = 4 * (i + nx * (j + ny * k))
        if (plain) {
          const v = head.low + (texels[o + 3] / 255) * ((head.tops.channel ?? 1) - head.low)
          const share = Math.max(0, Math.min(1, (v - low) / Math.max(high - low, 1e-9)))
          const taken = 1 - Math.exp(-look.absorb * share * deep)
          const c = 3 * Math.round(255 * share)
          for (let a = 0; a < 3; a++) sum[a] += through * taken * (table[c + a] / 255) ** 2.2
          through *= 1 - taken
        } else if (texels[o] || texels[o + 2]) {
          const taken = 1 - Math.exp((-look.absorb * texels[o] * head.tops.density * deep) / 255)
          const [strength, colour] = burns[texels[o + 2]]
          if (strength > 0.002 && !colour.length)
            colour.push(...blackBody((AIR + (texels[o + 2] / 255) * head.tops.temperature) * look.warm))
          for (let a = 0; a < 3; a++) {
            sum[a] += through * taken * tint[a] * (0.25 + (0.75 * texels[o + 1]) / 255)
            if (strength > 0.002) sum[a] += through * strength * deep * POWER * colour[a]
          }
          through *= 1 - taken
        }
        if (through < 0.02) break
      }
      const o = 4 * (px + size * py)
      for (let a = 0; a < 3; a++) to.data[o + a] = byte(sum[a] + through * (SEA[a] / 255) ** 2.2)
    }
}
