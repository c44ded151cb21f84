/** One frame of a run as it is drawn: its results, each loaded by its form. */
import { arrays, type Arrays, type Packed } from '../api/client'
import type {
  DrawnHead,
  FlowLook,
  Form,
  MeshHead,
  PointsHead,
  ResultEntry,
  TexelsHead,
  Vec3,
  VolumeDifference,
  VolumesCompared,
  PointsCompared,
  PointsDifference,
} from '../api/model'
import { ON_SURFACES, SMOKE } from './channels'

/** Positions in their box in 16 bits, the channel that colours in 8. */
export interface PointsPart {
  form: 'points'
  head: PointsHead
  position: Uint16Array
  tone: Uint8Array
  left: Uint8Array
  colours?: Uint8Array
  /** Where the surface of what they fill looks, as long as that is sure. */
  outward?: Int8Array
}
/** Texels RGBA, x fastest: density, light, temperature, the chosen channel, each a share of its top. */
export interface VolumePart {
  form: 'volume'
  head: TexelsHead
  texels: Uint8Array<ArrayBuffer>
  colours: Uint8Array<ArrayBuffer> | null
}
export interface MeshPart {
  form: 'mesh'
  head: MeshHead
  vertices: Float32Array
  faces: Uint32Array
  normals?: Int8Array
  tone?: Uint8Array
  colours?: Uint8Array
  /** How thick it is behind a vertex, as a share of the most. */
  thickness?: Uint8Array
}
export type Part = PointsPart | VolumePart | MeshPart
/** With the name of its result: a kind may have several of one form. */
export type Named = Part & { name: string }
type OfForm<F extends Form> = Extract<Part, { form: F }> & { name: string }

/** What is said of a frame is that of its main result. */
export interface Frame {
  identity: string
  frame: number
  colour: string
  count: number
  unit: string
  low: number
  high: number
  lower: Vec3
  names: string[]
  parts: Named[]
}

export function partOf<F extends Part['form']>(frame: Frame | null | undefined, form: F): OfForm<F> | undefined {
  return frame?.parts.find((p): p is OfForm<F> => p.form === form)
}

function pointsOf(head: PointsHead, a: Arrays): PointsPart {
  const part = { position: a.position as Uint16Array, tone: a.tone as Uint8Array, left: a.left as Uint8Array }
  const { colours, outward } = a as Record<string, never>
  return { form: 'points', head, ...part, colours, outward }
}
function volumeOf(head: TexelsHead, a: Arrays): VolumePart {
  const count = a.density.length
  const texels = new Uint8Array(count * 4)
  const parts = [a.density, a.light, a.temperature, a.channel ?? a.density]
  for (let c = 0; c < 4; c++) for (let i = 0, o = c, p = parts[c]; i < count; i++, o += 4) texels[o] = p[i]
  let colours: Uint8Array<ArrayBuffer> | null = null
  if (a.red) {
    colours = new Uint8Array(count * 4)
    for (let i = 0, o = 0; i < count; i++, o += 4) {
      colours[o] = a.red[i]
      colours[o + 1] = a.green[i]
      colours[o + 2] = a.blue[i]
      colours[o + 3] = 255
    }
  }
  return { form: 'volume', head, texels, colours }
}
function meshOf(head: MeshHead, a: Arrays): MeshPart {
  const { normals, tone, colours, thickness } = a as Record<string, never>
  const faces = new Uint32Array(a.faces as Int32Array)
  return { form: 'mesh', head, vertices: a.vertices as Float32Array, faces, normals, tone, colours, thickness }
}
/** The mesh among what a lane draws. */
export function drawnMesh(packed: Packed<DrawnHead> | null | undefined): (MeshPart & { name: string }) | null {
  const head = packed?.facts.mesh
  if (!packed || !head) return null
  const own = Object.entries(packed.arrays).filter(([name]) => name.startsWith('mesh.'))
  return { ...meshOf(head, Object.fromEntries(own.map(([name, a]) => [name.slice(5), a]))), name: DRAWN_MESH }
}
export const DRAWN_MESH = 'drawn mesh'
/** Whether what a lane draws stands for a part: for a plain surface, and for points it is the surface of. */
export const standsFor = (mesh: Part | null | undefined, part: Named, main: string | undefined, look: FlowLook) =>
  !!mesh && part.name === main && (part.form === 'mesh' || (part.form === 'points' && look.draw === 'surface'))
type Made = { [F in Part['form']]: (head: never, a: Arrays) => Part }
const MAKE: Made = { points: pointsOf, volume: volumeOf, mesh: meshOf }

/** What an address adds for the look of a form: only what changes what is sent. */
function wanted(form: Form, look: FlowLook): string {
  if (form === 'volume') {
    const lit = look.key ? `&azimuth=${look.key[0]}&height=${look.key[1]}` : ''
    return `?channel=${encodeURIComponent(look.colour === SMOKE ? '' : look.colour)}&absorb=${look.absorb}${lit}`
  }
  if (form === 'mesh') return look.colour ? `?channel=${encodeURIComponent(look.colour)}` : ''
  const colour = ON_SURFACES.includes(look.colour) ? '' : look.colour
  return form === 'points' ? `?channel=${encodeURIComponent(colour)}` : ''
}
/** Names one frame as it is looked at, for who keeps frames. */
export const nameOf = (identity: string, n: number, results: ResultEntry[], look: FlowLook) =>
  `${identity}/${n}${results.map((r) => `/${r.name}${wanted(r.form, look)}`).join('')}`

export async function loadFrame(identity: string, n: number, results: ResultEntry[], look: FlowLook): Promise<Frame> {
  const parts = await Promise.all(
    results.map(async (r, i) => {
      const mine = i ? { ...look, colour: '' } : look // the look's channel is one of the main result
      const path = `/runs/${identity}/frames/${n}/${r.name}${wanted(r.form, mine)}`
      const { facts, arrays: a } = await arrays<never>(path)
      return { ...MAKE[r.form as Part['form']](facts, a), name: r.name }
    }),
  )
  return frameOf(parts, look.colour)
}
function frameOf(parts: Named[], colour: string): Frame {
  const { head } = parts[0]
  const lower = 'lower' in head ? (head.lower as Vec3) : ([0, 0, 0] as Vec3)
  const high = parts[0].form === 'volume' ? (parts[0].head.tops.channel ?? parts[0].head.tops.density) : head.high
  const { identity, frame, count, unit, low, names } = head
  return { identity, frame, colour, count, unit, low, high, lower, names, parts }
}

const bytesOf = (p: Part) =>
  p.form === 'volume'
    ? p.texels.length
    : p.form === 'points'
      ? p.head.count * 8
      : p.vertices.byteLength + p.faces.byteLength
export const sizeOf = (f: Frame) => f.parts.reduce((sum, p) => sum + bytesOf(p), 0)

/** b − a as a volume of one signed channel; numbers alone of points. */
export async function loadDifference(
  a: string,
  b: string,
  frame: number,
  of: string,
  to: string,
): Promise<{ frame: Frame | null; numbers: VolumeDifference | PointsDifference }> {
  const plain = [of, to].map((name) => encodeURIComponent(name === SMOKE ? '' : name))
  const path = `/compare?a=${a}&b=${b}&frame=${frame}&of=${plain[0]}&to=${plain[1]}`
  const { facts, arrays: x } = await arrays<VolumesCompared | PointsCompared>(path)
  if (!('tops' in facts)) return { frame: null, numbers: facts.numbers }
  const texels = new Uint8Array(x.channel.length * 4)
  for (let i = 0; i < x.channel.length; i++) texels[4 * i + 3] = x.channel[i]
  const part: VolumePart = { form: 'volume', head: facts, texels, colours: null }
  return { frame: frameOf([{ ...part, name: 'difference' }], 'difference'), numbers: facts.numbers }
}
