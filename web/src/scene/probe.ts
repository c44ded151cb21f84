/** The probe: a slice through space with wind barbs, arrows or flow lines on it, and a frame to drag it by. */
import * as THREE from 'three'
import { LineMaterial } from 'three/examples/jsm/lines/LineMaterial.js'
import { LineSegments2 } from 'three/examples/jsm/lines/LineSegments2.js'
import { LineSegmentsGeometry } from 'three/examples/jsm/lines/LineSegmentsGeometry.js'
import type { Packed } from '../api/client'
import type { Vec3 } from '../api/model'
import { index, maps, paint, type Mapping } from '../lib/colour'
import type { ProbeFacts } from '../stores/look'
import { clear, material } from './materials'

interface Window {
  origin: Vec3
  u: Vec3
  v: Vec3
  width: number
  height: number
}
const vec = (v: Vec3) => new THREE.Vector3(...v)

function rectangle(w: Window): THREE.BufferGeometry {
  const o = vec(w.origin),
    u = vec(w.u),
    v = vec(w.v)
  const corners = [o, o.clone().add(u), o.clone().add(u).add(v), o.clone().add(v)]
  const g = new THREE.BufferGeometry()
  g.setAttribute(
    'position',
    new THREE.Float32BufferAttribute(
      corners.flatMap((c) => c.toArray()),
      3,
    ),
  )
  g.setAttribute('uv', new THREE.Float32BufferAttribute([0, 0, 1, 0, 1, 1, 0, 1], 2))
  g.setIndex([0, 1, 2, 0, 2, 3])
  return g
}

/** Lines of equal distance on a slice: ten over the range, zero (the surface) in the signal colour. */
function contours(pixels: Uint8ClampedArray, values: Float32Array, columns: number, rows: number, m: Mapping) {
  const step = barbUnit((m.high - m.low) / 3)
  for (let r = 0; r < rows - 1; r++)
    for (let c = 0; c < columns - 1; c++) {
      const k = r * columns + c
      const here = values[k],
        right = values[k + 1],
        up = values[k + columns]
      const zero = here < 0 !== right < 0 || here < 0 !== up < 0
      const line =
        Math.floor(here / step) !== Math.floor(right / step) || Math.floor(here / step) !== Math.floor(up / step)
      if (zero) pixels.set([210, 73, 42, 255], 4 * k)
      else if (line) for (let i = 0; i < 3; i++) pixels[4 * k + i] = pixels[4 * k + i] * 0.72
    }
}

export function drawSlice(group: THREE.Group, w: Window, slice: Packed<ProbeFacts> | null, m: Mapping) {
  clear(group)
  const values = slice?.arrays.values as Float32Array | undefined
  if (!slice || !values) return
  const [rows, columns] = slice.shapes.values
  const pixels = paint(values, columns, rows, m, false, 205)
  if (slice.facts.kind === 'scalar' && slice.facts.unit === 'm') contours(pixels, values, columns, rows, m)
  const texture = new THREE.DataTexture(pixels, columns, rows)
  texture.colorSpace = THREE.SRGBColorSpace
  texture.magFilter = texture.minFilter = THREE.LinearFilter
  texture.needsUpdate = true
  const paper = material(
    `slice.${group.uuid}`,
    () =>
      new THREE.MeshBasicMaterial({
        map: texture,
        transparent: true,
        side: THREE.DoubleSide,
        depthWrite: false,
        toneMapped: false,
      }),
  )
  if (paper.map !== texture) {
    paper.map?.dispose()
    paper.map = texture
  }
  const mesh = new THREE.Mesh(rectangle(w), paper)
  mesh.renderOrder = 1
  group.add(mesh)
}

/** The frame by which the probe is dragged: drawn as a hairline, hit as a whole plane. */
export function drawFrame(group: THREE.Group, w: Window, hot: boolean) {
  clear(group)
  const g = rectangle(w)
  const edges = new THREE.LineLoop(
    new THREE.BufferGeometry().setAttribute('position', g.getAttribute('position')),
    material(`frame.${hot}`, () => new THREE.LineBasicMaterial({ color: hot ? 0xe0603f : 0x9fb0cc })),
  )
  const hit = new THREE.Mesh(
    g,
    material(
      'unseen',
      () => new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, colorWrite: false, depthWrite: false }),
    ),
  )
  hit.name = 'probe'
  group.add(edges, hit)
  const knob = new THREE.Mesh(
    new THREE.SphereGeometry(Math.max(w.width, w.height) * 0.012),
    material(`knob.${hot}`, () => new THREE.MeshBasicMaterial({ color: hot ? 0xe0603f : 0xf5f0e6 })),
  )
  knob.position.copy(vec(w.origin).add(vec(w.u)))
  knob.name = 'knob'
  group.add(knob)
}

/** The speed that a full feather stands for: 1, 2 or 5 times a power of ten, so that the fastest barb has about
 * three. */
export function barbUnit(high: number): number {
  const raw = Math.max(high, 1e-9) / 3.5
  const power = 10 ** Math.floor(Math.log10(raw))
  return [1, 2, 5, 10].map((k) => k * power).find((k) => k >= raw * 0.75) ?? power
}

export interface GlyphStyle {
  glyph: 'barbs' | 'arrows'
  coloured: boolean
  length: number
  width: number
}

/** Pairs of points as lines: hairlines as the card draws them, wider ones as ribbons of so many pixels. */
function segments(
  points: Float32Array | number[],
  colours: Float32Array | number[],
  width: number,
  opacity = 1,
): THREE.Object3D {
  if (width > 1) {
    const g = new LineSegmentsGeometry().setPositions(points as Float32Array).setColors(colours as Float32Array)
    const lines = new LineSegments2(
      g,
      material(
        `wide.${width}.${opacity}`,
        () =>
          new LineMaterial({
            vertexColors: true,
            linewidth: width,
            transparent: opacity < 1,
            opacity,
            toneMapped: false,
          }),
      ),
    )
    lines.frustumCulled = false
    return lines
  }
  const g = new THREE.BufferGeometry()
  g.setAttribute('position', new THREE.BufferAttribute(new Float32Array(points), 3))
  g.setAttribute('color', new THREE.BufferAttribute(new Float32Array(colours), 3))
  return new THREE.LineSegments(
    g,
    material(
      `hairline.${opacity}`,
      () => new THREE.LineBasicMaterial({ vertexColors: true, transparent: opacity < 1, opacity, toneMapped: false }),
    ),
  )
}

/** Barbs or arrows at points with vectors; `normal` is the side on which feathers stand. */
function glyphsAt(
  group: THREE.Group,
  count: number,
  at: (k: number) => { p: THREE.Vector3; normal: THREE.Vector3 },
  values: Float32Array,
  size: number,
  m: Mapping,
  style: GlyphStyle,
) {
  const unit = barbUnit(m.high)
  const points: number[] = []
  const colours: number[] = []
  const lut = maps[m.map]
  for (let k = 0; k < count; k++) {
    const d = new THREE.Vector3(values[3 * k], values[3 * k + 1], values[3 * k + 2])
    const speed = d.length()
    if (!(speed > unit * 0.12)) continue
    const { p, normal } = at(k)
    d.divideScalar(speed)
    let side = new THREE.Vector3().crossVectors(normal, d)
    if (side.lengthSq() < 0.05) side = new THREE.Vector3(0, 0, 1).cross(d)
    side.normalize()
    const c = index(speed, m) * 3
    const colour = style.coloured ? [lut[c] / 255, lut[c + 1] / 255, lut[c + 2] / 255] : [1, 0.93, 0.72]
    const line = (a: THREE.Vector3, b: THREE.Vector3) => {
      points.push(a.x, a.y, a.z, b.x, b.y, b.z)
      colours.push(...colour, ...colour)
    }
    if (style.glyph === 'arrows') {
      const length = size * Math.min(1.6, speed / m.high + 0.1)
      const tip = p.clone().addScaledVector(d, length)
      line(p, tip)
      for (const s of [-1, 1])
        line(
          tip,
          tip
            .clone()
            .addScaledVector(d, -0.3 * length)
            .addScaledVector(side, s * 0.16 * length),
        )
      continue
    }
    const tail = p.clone().addScaledVector(d, -size)
    line(tail, p)
    let halves = Math.round((2 * speed) / unit)
    let along = 0
    while (halves > 0 && along < 0.95) {
      const root = tail.clone().addScaledVector(d, along * size)
      if (halves >= 10) {
        const point = root
          .clone()
          .addScaledVector(side, 0.42 * size)
          .addScaledVector(d, 0.08 * size)
        line(root, point)
        line(point, root.clone().addScaledVector(d, 0.2 * size))
        halves -= 10
        along += 0.26
      } else {
        const full = halves >= 2
        line(
          root,
          root
            .clone()
            .addScaledVector(side, (full ? 0.42 : 0.22) * size)
            .addScaledVector(d, -(full ? 0.16 : 0.08) * size),
        )
        halves -= full ? 2 : 1
        along += 0.16
      }
    }
  }
  if (!points.length) return
  const lines = segments(points, colours, style.width)
  lines.renderOrder = 3
  group.add(lines)
}

/** Glyphs on the probe's rectangle, or in layers along `deep` through the whole box. */
export function drawGlyphs(
  group: THREE.Group,
  w: Window,
  packed: Packed<ProbeFacts> | null,
  m: Mapping,
  style: GlyphStyle,
  low: Vec3,
  deep: THREE.Vector3,
) {
  clear(group)
  const values = packed?.arrays.vectors as Float32Array | undefined
  const shape = packed?.shapes.vectors
  if (!values || !shape) return
  const layered = shape.length === 4
  const [layers, rows, columns] = layered ? shape : [1, shape[0], shape[1]]
  const size = Math.min(w.width / columns, w.height / rows) * 0.86 * style.length
  const normal = vec(w.u).cross(vec(w.v)).normalize()
  const origin = vec(w.origin)
  if (layered) for (const a of ['x', 'y', 'z'] as const) if (deep[a]) origin[a] = low[{ x: 0, y: 1, z: 2 }[a]]
  const u = vec(w.u),
    v = vec(w.v)
  glyphsAt(
    group,
    layers * rows * columns,
    (k) => {
      const l = Math.floor(k / (rows * columns))
      const r = Math.floor(k / columns) % rows
      const p = origin
        .clone()
        .addScaledVector(u, ((k % columns) + 0.5) / columns)
        .addScaledVector(v, (r + 0.5) / rows)
      return { p: layered ? p.addScaledVector(deep, (l + 0.5) / layers) : p, normal }
    },
    values,
    size,
    m,
    style,
  )
}

/** The field on a shape: its surface in colours, and glyphs that stand on it. */
export function drawSurface(
  group: THREE.Group,
  packed: Packed<ProbeFacts> | null,
  m: Mapping,
  style: GlyphStyle | null,
) {
  clear(group)
  if (!packed?.arrays.vertices) return
  const values = packed.arrays.values as Float32Array
  const lut = maps[m.map]
  const colours = new Float32Array(values.length * 3)
  for (let i = 0; i < values.length; i++)
    for (let c = 0; c < 3; c++) colours[3 * i + c] = (lut[index(values[i], m) * 3 + c] / 255) ** 2.2
  const g = new THREE.BufferGeometry()
  g.setAttribute('position', new THREE.BufferAttribute(packed.arrays.vertices as Float32Array, 3))
  g.setAttribute('color', new THREE.BufferAttribute(colours, 3))
  g.setIndex(new THREE.BufferAttribute(new Uint32Array(packed.arrays.faces), 1))
  g.computeVertexNormals()
  const mesh = new THREE.Mesh(
    g,
    material(
      'skin',
      () =>
        new THREE.MeshLambertMaterial({
          vertexColors: true,
          side: THREE.DoubleSide,
          polygonOffset: true,
          polygonOffsetFactor: -1,
          polygonOffsetUnits: -1,
        }),
    ),
  )
  mesh.name = 'probe'
  group.add(mesh)
  const at = packed.arrays.points as Float32Array | undefined
  if (!at || !style) return
  const n = packed.arrays.normals as Float32Array
  const box = new THREE.Box3().setFromBufferAttribute(g.getAttribute('position') as THREE.BufferAttribute)
  const count = at.length / 3
  const size = (box.getSize(new THREE.Vector3()).length() / Math.sqrt(count)) * 0.7 * style.length
  glyphsAt(
    group,
    count,
    (k) => {
      const normal = new THREE.Vector3(n[3 * k], n[3 * k + 1], n[3 * k + 2])
      return {
        p: new THREE.Vector3(at[3 * k], at[3 * k + 1], at[3 * k + 2]).addScaledVector(normal, size * 0.06),
        normal,
      }
    },
    packed.arrays.vectors as Float32Array,
    size,
    m,
    style,
  )
}

export function drawLines(group: THREE.Group, packed: Packed<ProbeFacts> | null, m: Mapping, width: number) {
  clear(group)
  const lines = packed?.arrays.lines as Float32Array | undefined
  if (!packed || !lines) return
  const speed = packed.arrays.speed as Float32Array
  const [count, length] = packed.shapes.lines
  const lut = maps[m.map]
  const points = new Float32Array(count * (length - 1) * 6)
  const colours = new Float32Array(points.length)
  let o = 0
  for (let i = 0; i < count; i++)
    for (let j = 0; j < length - 1; j++)
      for (const n of [i * length + j, i * length + j + 1]) {
        const k = index(speed[n], m) * 3
        for (let c = 0; c < 3; c++) {
          points[o] = lines[3 * n + c]
          colours[o++] = (lut[k + c] / 255) * 0.8 + 0.2
        }
      }
  group.add(segments(points, colours, width, 0.75))
}
