/** The camera of a flipbook from frame to frame, and what is burnt into its pictures. */
import type { Vec3 } from '../../api/model'
import { maps } from '../../lib/colour'
import { shown } from '../../lib/quantity'

/** Where the camera is at a frame. */
export interface Key {
  frame: number
  position: Vec3
  target: Vec3
  parallel?: boolean
}

/** The camera at a frame: through all keys, smoothly (cubic Hermite, slopes of the neighbours), and still before the
 * first and after the last. Null without keys. */
export function cameraAt(keys: Key[], frame: number): Omit<Key, 'frame'> | null {
  const k = [...keys].sort((a, b) => a.frame - b.frame)
  if (!k.length) return null
  const still = frame <= k[0].frame ? k[0] : frame >= k[k.length - 1].frame ? k[k.length - 1] : null
  if (still) return { position: still.position, target: still.target, parallel: still.parallel }
  const i = k.findIndex((x) => x.frame > frame) - 1
  const [a, b] = [k[i], k[i + 1]]
  const span = b.frame - a.frame
  const s = (frame - a.frame) / span
  const along = (part: 'position' | 'target') =>
    [0, 1, 2].map((c) => {
      const slope = (n: number) => {
        if (n === 0 || n === k.length - 1) return 0 // sets off and comes to rest
        return (k[n + 1][part][c] - k[n - 1][part][c]) / (k[n + 1].frame - k[n - 1].frame)
      }
      const [p, q] = [a[part][c], b[part][c]]
      const h = s * s * (3 - 2 * s)
      return p + h * (q - p) + span * (s * (1 - s) * (1 - s) * slope(i) - s * s * (1 - s) * slope(i + 1))
    }) as Vec3
  return { position: along('position'), target: along('target'), parallel: a.parallel }
}

export interface Legend {
  title: string
  unit: string
  map: keyof typeof maps
  low: number
  high: number
}

/** Write words into the lower left of a picture, and a legend into the lower right. */
export function burn(picture: HTMLCanvasElement, words: string, legend: Legend | null) {
  const c = picture.getContext('2d')!
  const size = Math.max(13, Math.round(picture.height / 46))
  const edge = size
  c.font = `${size}px "IBM Plex Mono", monospace`
  c.textBaseline = 'alphabetic'
  c.shadowColor = 'rgba(0, 0, 0, 0.85)'
  c.shadowBlur = size / 4
  c.fillStyle = '#F2EEE3'
  if (words) c.fillText(words, edge, picture.height - edge)
  if (!legend) return
  const [width, height] = [size * 14, size * 0.7]
  const [x, y] = [picture.width - edge - width, picture.height - edge - size * 1.3]
  const table = maps[legend.map]
  for (let i = 0; i < width; i++) {
    const at = 3 * Math.round((255 * i) / (width - 1))
    c.fillStyle = `rgb(${table[at]}, ${table[at + 1]}, ${table[at + 2]})`
    c.fillRect(x + i, y - height, 1.5, height)
  }
  c.fillStyle = '#F2EEE3'
  c.fillText(`${legend.title} ${legend.unit}`, x, y - height - size * 0.5)
  const numbers = [legend.low, (legend.low + legend.high) / 2, legend.high].map((v) => shown(v, 3))
  numbers.forEach((text, n) => {
    c.textAlign = (['left', 'center', 'right'] as const)[n]
    c.fillText(text, x + (width * n) / 2, y + size * 1.15)
  })
  c.textAlign = 'left'
}
