/** The probe: a slice through space with wind barbs, arrows or flow lines on it, and a frame to drag it by. */
import * as THREE from 'three'
import type { Packed } from '../api/client'
import type { Vec3 } from '../api/types'
import { index, maps, paint, type Mapping } from '../lib/colour'
import type { ProbeFacts } from '../stores/look'
import { clear } from './viewer'

interface Window { origin: Vec3; u: Vec3; v: Vec3; width: number; height: number }
const vec = (v: Vec3) => new THREE.Vector3(...v)

function rectangle(w: Window): THREE.BufferGeometry {
  const o = vec(w.origin), u = vec(w.u), v = vec(w.v)
  const corners = [o, o.clone().add(u), o.clone().add(u).add(v), o.clone().add(v)]
  const g = new THREE.BufferGeometry()
  g.setAttribute('position', new THREE.Float32BufferAttribute(corners.flatMap((c) => c.toArray()), 3))
  g.setAttribute('uv', new THREE.Float32BufferAttribute([0, 0, 1, 0, 1, 1, 0, 1], 2))
  g.setIndex([0, 1, 2, 0, 2, 3])
  return g
}

export function drawSlice(group: THREE.Group, w: Window, slice: Packed<ProbeFacts> | null, m: Mapping) {
  clear(group)
  const values = slice?.arrays.values as Float32Array | undefined
  if (!slice || !values) return
  const [rows, columns] = slice.shapes.values
  const texture = new THREE.DataTexture(paint(values, columns, rows, m, false, 205), columns, rows)
  texture.colorSpace = THREE.SRGBColorSpace
  texture.magFilter = texture.minFilter = THREE.LinearFilter
  texture.needsUpdate = true
  const mesh = new THREE.Mesh(rectangle(w), new THREE.MeshBasicMaterial({ map: texture, transparent: true, side: THREE.DoubleSide, depthWrite: false, toneMapped: false }))
  mesh.renderOrder = 1
  group.add(mesh)
}

/** The frame by which the probe is dragged: drawn as a hairline, hit as a whole plane. */
export function drawFrame(group: THREE.Group, w: Window, hot: boolean) {
  clear(group)
  const g = rectangle(w)
  const edges = new THREE.LineLoop(
    new THREE.BufferGeometry().setAttribute('position', g.getAttribute('position')),
    new THREE.LineBasicMaterial({ color: hot ? 0xe0603f : 0x9fb0cc }),
  )
  const hit = new THREE.Mesh(g, new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, colorWrite: false, depthWrite: false }))
  hit.name = 'probe'
  group.add(edges, hit)
  const knob = new THREE.Mesh(new THREE.SphereGeometry(Math.max(w.width, w.height) * 0.012), new THREE.MeshBasicMaterial({ color: hot ? 0xe0603f : 0xf5f0e6 }))
  knob.position.copy(vec(w.origin).add(vec(w.u)))
  knob.name = 'knob'
  group.add(knob)
}

/** The speed that a full feather stands for: 1, 2 or 5 times a power of ten, so that the fastest barb has about three. */
export function barbUnit(high: number): number {
  const raw = Math.max(high, 1e-9) / 3.5
  const power = 10 ** Math.floor(Math.log10(raw))
  return [1, 2, 5, 10].map((k) => k * power).find((k) => k >= raw * 0.75) ?? power
}

function cells(w: Window, rows: number, columns: number, visit: (p: THREE.Vector3, k: number) => void) {
  const o = vec(w.origin), u = vec(w.u), v = vec(w.v)
  for (let r = 0; r < rows; r++) for (let c = 0; c < columns; c++)
    visit(o.clone().addScaledVector(u, (c + 0.5) / columns).addScaledVector(v, (r + 0.5) / rows), r * columns + c)
}

export function drawGlyphs(group: THREE.Group, w: Window, packed: Packed<ProbeFacts> | null, m: Mapping, glyph: 'barbs' | 'arrows', coloured: boolean) {
  clear(group)
  const values = packed?.arrays.values as Float32Array | undefined
  if (!packed || !values || packed.shapes.values.length !== 3) return
  const [rows, columns] = packed.shapes.values
  const size = Math.min(w.width / columns, w.height / rows) * 0.86
  const unit = barbUnit(m.high)
  const normal = vec(w.u).cross(vec(w.v)).normalize()
  const points: number[] = []
  const colours: number[] = []
  const lut = maps[m.map]
  cells(w, rows, columns, (p, k) => {
    const d = new THREE.Vector3(values[3 * k], values[3 * k + 1], values[3 * k + 2])
    const speed = d.length()
    if (!(speed > unit * 0.12)) return
    d.divideScalar(speed)
    let side = new THREE.Vector3().crossVectors(normal, d)
    if (side.lengthSq() < 0.05) side = new THREE.Vector3(0, 0, 1).cross(d)
    side.normalize()
    const c = index(speed, m) * 3
    const colour = coloured ? [lut[c] / 255, lut[c + 1] / 255, lut[c + 2] / 255] : [1, 0.93, 0.72]
    const line = (a: THREE.Vector3, b: THREE.Vector3) => { points.push(...a.toArray(), ...b.toArray()); colours.push(...colour, ...colour) }
    if (glyph === 'arrows') {
      const length = size * Math.min(1.6, speed / m.high + 0.1)
      const tip = p.clone().addScaledVector(d, length)
      line(p, tip)
      for (const s of [-1, 1]) line(tip, tip.clone().addScaledVector(d, -0.3 * length).addScaledVector(side, s * 0.16 * length))
      return
    }
    const tail = p.clone().addScaledVector(d, -size)
    line(tail, p)
    let halves = Math.round((2 * speed) / unit)
    let at = 0
    while (halves > 0 && at < 0.95) {
      const root = tail.clone().addScaledVector(d, at * size)
      if (halves >= 10) {
        const point = root.clone().addScaledVector(side, 0.42 * size).addScaledVector(d, 0.08 * size)
        line(root, point); line(point, root.clone().addScaledVector(d, 0.2 * size))
        halves -= 10; at += 0.26
      } else {
        const full = halves >= 2
        line(root, root.clone().addScaledVector(side, (full ? 0.42 : 0.22) * size).addScaledVector(d, -(full ? 0.16 : 0.08) * size))
        halves -= full ? 2 : 1; at += 0.16
      }
    }
  })
  const g = new THREE.BufferGeometry()
  g.setAttribute('position', new THREE.Float32BufferAttribute(points, 3))
  g.setAttribute('color', new THREE.Float32BufferAttribute(colours, 3))
  const lines = new THREE.LineSegments(g, new THREE.LineBasicMaterial({ vertexColors: true, toneMapped: false }))
  lines.renderOrder = 3
  group.add(lines)
}

export function drawLines(group: THREE.Group, packed: Packed<ProbeFacts> | null, m: Mapping) {
  clear(group)
  const lines = packed?.arrays.lines as Float32Array | undefined
  if (!packed || !lines) return
  const speed = packed.arrays.speed as Float32Array
  const [count, length] = packed.shapes.lines
  const colours = new Float32Array(count * length * 3)
  const lut = maps[m.map]
  for (let i = 0; i < count * length; i++) {
    const k = index(speed[i], m) * 3
    for (let c = 0; c < 3; c++) colours[3 * i + c] = (lut[k + c] / 255) * 0.8 + 0.2
  }
  const order = new Uint32Array(count * (length - 1) * 2)
  let o = 0
  for (let i = 0; i < count; i++) for (let j = 0; j < length - 1; j++) { order[o++] = i * length + j; order[o++] = i * length + j + 1 }
  const g = new THREE.BufferGeometry()
  g.setAttribute('position', new THREE.BufferAttribute(lines, 3))
  g.setAttribute('color', new THREE.BufferAttribute(colours, 3))
  g.setIndex(new THREE.BufferAttribute(order, 1))
  group.add(new THREE.LineSegments(g, new THREE.LineBasicMaterial({ vertexColors: true, transparent: true, opacity: 0.75, toneMapped: false })))
}
