/** The light of a fire on the smoke around it: what each place emits, spread over ever wider boxes, which together fall
 * off as the square of the distance does. Coarse, since light from all around has no edges. */
import shown from '../api/shown.json'
import { blackBody, COOLEST, HOTTEST } from '../lib/blackbody'
import type { FlowLook } from '../api/model'
import type { VolumePart } from '../forms/frames'

const SIDE = 28
/** Air around a fire, in kelvin: temperatures of gas are counted above it. */
export const AIR = shown.fire.air
/** Strength of what is as hot as a look says is bright, a metre of it. */
export const POWER = shown.fire.power
/** By which power of it heat is bright, from where it is seen to where it is brightest. */
export const STEEP = shown.fire.steep

export interface Glow {
  shape: [number, number, number]
  /** Irradiance at 8 bits of `top`, RGBA. */
  texels: Uint8Array<ArrayBuffer>
  top: number
  /** All that is emitted, where in the middle (shares of the box), and how far from it, as a share of the box. */
  power: [number, number, number]
  middle: [number, number, number]
  spread: number
}

/** How bright heat is, 0 at `cold` and 1 at `hot`. */
export const brightness = (kelvin: number, look: FlowLook) => {
  const share = (kelvin - look.cold) / Math.max(look.hot - look.cold, 1)
  return Math.max(0, Math.min(1, share)) ** STEEP
}

const colours = new Map<number, [number, number, number]>()
function colourOf(kelvin: number) {
  const k = Math.round(Math.max(COOLEST, Math.min(HOTTEST, kelvin)) / 25) * 25
  let found = colours.get(k)
  if (!found) colours.set(k, (found = blackBody(k)))
  return found
}

export function glowOf(part: VolumePart, look: FlowLook): Glow | null {
  const top = part.head.tops.temperature
  if (look.glow <= 0 || top <= look.cold) return null
  const [nx, ny, nz] = part.head.shape
  const [sx, sy, sz] = part.head.size
  const every = Math.max(1, Math.ceil(Math.max(nx, ny, nz) / SIDE))
  const shape = [nx, ny, nz].map((n) => Math.max(1, Math.ceil(n / every))) as [number, number, number]
  const [gx, gy, gz] = shape
  const count = gx * gy * gz
  const light = [new Float32Array(count), new Float32Array(count), new Float32Array(count)]
  const power: [number, number, number] = [0, 0, 0]
  const middle = [0, 0, 0]
  let total = 0
  const hot = new Float32Array(256)
  const tints: [number, number, number][] = []
  for (let b = 0; b < 256; b++) {
    const kelvin = (b / 255) * top
    hot[b] = look.glow * POWER * brightness(kelvin, look)
    tints.push(colourOf((AIR + kelvin) * look.warm))
  }
  // a texel in two, along each way, is enough
  const stride = Math.max(1, Math.floor(every / 2))
  const share = (stride / every) ** 3
  for (let k = 0; k < nz; k += stride)
    for (let j = 0; j < ny; j += stride)
      for (let i = 0; i < nx; i += stride) {
        const b = part.texels[4 * (i + nx * (j + ny * k)) + 2]
        if (!hot[b]) continue
        const at = ((i / every) | 0) + gx * (((j / every) | 0) + gy * ((k / every) | 0))
        const e = hot[b] * share
        for (let c = 0; c < 3; c++) light[c][at] += e * tints[b][c]
        total += e
        middle[0] += (e * (i + 0.5)) / nx
        middle[1] += (e * (j + 0.5)) / ny
        middle[2] += (e * (k + 0.5)) / nz
      }
  if (total <= 0) return null
  for (let c = 0; c < 3; c++) middle[c] /= total
  const volume = (sx * sy * sz) / count
  const cell = Math.cbrt(volume)
  let spread = 0
  for (let c = 0; c < 3; c++) power[c] = light[c].reduce((sum, v) => sum + v, 0) * volume
  for (let i = 0; i < count; i++) {
    const e = light[0][i]
    if (!e) continue
    const [x, y, z] = [i % gx, ((i / gx) | 0) % gy, (i / gx / gy) | 0]
    spread +=
      e * (((x + 0.5) / gx - middle[0]) ** 2 + ((y + 0.5) / gy - middle[1]) ** 2 + ((z + 0.5) / gz - middle[2]) ** 2)
  }
  spread = Math.sqrt(
    spread /
      Math.max(
        light[0].reduce((s, v) => s + v, 0),
        1e-9,
      ),
  )
  const sum = light.map(() => new Float32Array(count))
  light.forEach((own, c) => {
    const spreadOut = own.slice()
    for (const radius of [1, 2, 4, 8]) {
      for (const axis of [0, 1, 2]) boxed(spreadOut, shape, axis, radius)
      // the mean over a box of side s stands for what comes from about s / 2 away: power / (4 π (s/2)²) = mean · s / π
      const side = (2 * radius + 1) * cell
      for (let i = 0; i < count; i++) sum[c][i] += (spreadOut[i] * side) / Math.PI / 4
    }
  })
  let most = 1e-9
  for (const s of sum) for (const v of s) if (v > most) most = v
  const texels = new Uint8Array(4 * count)
  // square roots keep what is faint
  for (let i = 0; i < count; i++)
    for (let c = 0; c < 3; c++) texels[4 * i + c] = Math.round(255 * Math.sqrt(sum[c][i] / most))
  return { shape, texels, top: most, power, middle: middle as [number, number, number], spread }
}

/** Means over 2 radius + 1 cells along an axis, nothing outside, in place. */
function boxed(a: Float32Array, [nx, ny, nz]: [number, number, number], axis: number, radius: number) {
  const n = [nx, ny, nz][axis]
  const step = [1, nx, nx * ny][axis]
  const line = new Float32Array(n + 1)
  const [p, q] = axis === 0 ? [ny, nz] : axis === 1 ? [nx, nz] : [nx, ny]
  const [sp, sq] = axis === 0 ? [nx, nx * ny] : axis === 1 ? [1, nx * ny] : [1, nx]
  for (let v = 0; v < q; v++)
    for (let u = 0; u < p; u++) {
      const from = u * sp + v * sq
      for (let i = 0; i < n; i++) line[i + 1] = line[i] + a[from + i * step]
      for (let i = 0; i < n; i++)
        a[from + i * step] = (line[Math.min(n, i + radius + 1)] - line[Math.max(0, i - radius)]) / (2 * radius + 1)
    }
}
