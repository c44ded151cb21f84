/** What a flow's lane draws: trails and flow lines as lines that fade toward their ends, points spread along them. */
import * as THREE from 'three'
import type { Packed } from '../api/client'
import type { DrawnHead, FlowLook } from '../api/model'
import { index, maps, mixed, type Mapping } from '../lib/colour'
import { areDrawn } from './instances'
import { clear, material, seen } from './materials'

export function drawTrails(
  group: THREE.Group,
  packed: Packed<DrawnHead> | null,
  look: FlowLook,
  range: [number, number],
  stale: boolean,
) {
  clear(group)
  group.visible = look.shown
  const points = packed?.arrays['lines.points'] as Float32Array | undefined
  const table = look.map === 'mix' ? mixed(look.first, look.last) : maps[look.map]
  const m: Mapping = { low: range[0], high: range[1], map: 'sequential' }
  const lit = (values: Float32Array | undefined, i: number, shade: number) => {
    const k = index(values ? values[i] : 0, m) * 3
    return [0, 1, 2].map((c) => ((table[k + c] / 255) * 0.85 + 0.15) * shade)
  }
  if (packed && points?.length) {
    const counts = packed.arrays['lines.counts'] as Int32Array
    const speed = packed.arrays['lines.speed'] as Float32Array
    const back = packed.arrays['lines.back'] as Float32Array | undefined
    let longest = 1e-6
    if (back) for (const b of back) longest = Math.max(longest, b)
    const pieces = points.length / 3 - counts.length
    const order = new Uint32Array(pieces * 2)
    let o = 0,
      i = 0
    for (const n of counts) {
      for (let k = 0; k < n - 1; k++) {
        order[o++] = i + k
        order[o++] = i + k + 1
      }
      i += n
    }
    const colours = new Float32Array(points.length)
    for (let p = 0; p < points.length / 3; p++)
      colours.set(lit(speed, p, (back ? 1 - 0.85 * (back[p] / longest) : 0.8) * (stale ? 0.35 : 1)), 3 * p)
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(points, 3))
    g.setAttribute('color', new THREE.BufferAttribute(colours, 3))
    g.setIndex(new THREE.BufferAttribute(order, 1))
    const additive = look.blend === 'additive'
    // many glowing lines over one another would be white: the more there are the fainter each, in steps
    const opacity = additive
      ? Math.max(0.08, Math.min(0.6, Math.round(60 * Math.sqrt(150 / counts.length)) / 100))
      : 0.9
    const lines = new THREE.LineSegments(
      g,
      material(`trail.${additive}.${opacity}`, () => {
        const made = new THREE.LineBasicMaterial({
          vertexColors: true,
          transparent: true,
          opacity,
          depthWrite: false,
          toneMapped: false,
        })
        return additive ? seen(made, { adds: true }) : made
      }),
    )
    lines.renderOrder = 3
    lines.frustumCulled = false
    group.add(lines)
  }
  const beads = packed?.arrays['spread.points'] as Float32Array | undefined
  if (packed && beads?.length && !(areDrawn(packed) && packed.facts.on === 'spread points')) {
    const speed = packed.arrays['spread.speed'] as Float32Array | undefined
    const colours = new Float32Array(beads.length)
    const count = beads.length / 3
    // what does not move has no speed to be coloured by: it runs through the map along its line
    const still = look.colour === 'speed' && !!speed && speed.every((v) => v < 1e-6)
    const along = still
      ? Float32Array.from({ length: count }, (_, p) => range[0] + ((p + 1) / count) * (range[1] - range[0]))
      : speed
    for (let p = 0; p < count; p++) colours.set(lit(along, p, 1), 3 * p)
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(beads, 3))
    g.setAttribute('color', new THREE.BufferAttribute(colours, 3))
    const size = Math.max(1.5, look.size * 1.6)
    const dots = new THREE.Points(
      g,
      material(
        `beads.${size}`,
        () => new THREE.PointsMaterial({ vertexColors: true, size, sizeAttenuation: false, toneMapped: false }),
      ),
    )
    dots.renderOrder = 4
    dots.frustumCulled = false
    group.add(dots)
  }
}
