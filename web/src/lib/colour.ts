/** Colour maps: sequential (even in lightness, safe for colour-blind eyes), diverging for signed values. */
import shown from '../api/shown.json'

type Rgb = [number, number, number]
function table(stops: Rgb[]): Uint8Array {
  const out = new Uint8Array(256 * 3)
  for (let i = 0; i < 256; i++) {
    const t = (i / 255) * (stops.length - 1)
    const k = Math.min(stops.length - 2, Math.floor(t))
    for (let c = 0; c < 3; c++) out[i * 3 + c] = stops[k][c] + (stops[k + 1][c] - stops[k][c]) * (t - k)
  }
  return out
}
/** Sequential; diverging, for signed values; heat, from a dull red to white; cyclic, for directions, the same at both
 * ends. */
const stops = shown.maps as unknown as Record<'sequential' | 'diverging' | 'heat' | 'cyclic', Rgb[]>
export const maps = {
  sequential: table(stops.sequential),
  diverging: table(stops.diverging),
  heat: table(stops.heat),
  cyclic: table(stops.cyclic),
}
/** A map from one colour to another, `#rrggbb` each. */
export function mixed(from: string, to: string): Uint8Array {
  const rgb = (hex: string) => [1, 3, 5].map((i) => parseInt(hex.slice(i, i + 2), 16) || 0) as Rgb
  return table([rgb(from), rgb(to)])
}
export interface Mapping {
  low: number
  high: number
  map: keyof typeof maps
}

export function mappingFor(low: number, high: number): Mapping {
  if (low < -1e-6 * Math.max(1, Math.abs(high))) {
    const m = Math.max(Math.abs(low), Math.abs(high))
    return { low: -m, high: m, map: 'diverging' }
  }
  return { low: 0, high: high > 0 ? high : 1, map: 'sequential' }
}

export function index(value: number, m: Mapping): number {
  const t = (value - m.low) / (m.high - m.low)
  return Math.max(0, Math.min(255, Math.round(t * 255)))
}

/** RGBA pixels of values; rows upside down if asked, since pictures begin at the top. */
export function paint(
  values: Float32Array,
  columns: number,
  rows: number,
  m: Mapping,
  flip = true,
  alpha = 255,
): Uint8ClampedArray<ArrayBuffer> {
  const out = new Uint8ClampedArray(columns * rows * 4)
  const lut = maps[m.map]
  for (let r = 0; r < rows; r++) {
    const from = (flip ? rows - 1 - r : r) * columns
    for (let c = 0; c < columns; c++) {
      const k = index(values[from + c], m) * 3
      const o = (r * columns + c) * 4
      out[o] = lut[k]
      out[o + 1] = lut[k + 1]
      out[o + 2] = lut[k + 2]
      out[o + 3] = alpha
    }
  }
  return out
}
export function gradientCss(map: keyof typeof maps): string {
  const stops = [0, 32, 64, 96, 128, 160, 192, 224, 255].map(
    (i) => `rgb(${maps[map][i * 3]},${maps[map][i * 3 + 1]},${maps[map][i * 3 + 2]})`,
  )
  return `linear-gradient(90deg,${stops.join(',')})`
}
