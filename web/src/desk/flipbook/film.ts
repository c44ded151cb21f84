/** What is burnt into the pictures of a flipbook. */
import { maps } from '../../lib/colour'
import { shown } from '../../lib/quantity'

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
