/** Shapes as solids, regions as boxes of hairlines. */
import * as THREE from 'three'
import { toCreasedNormals } from 'three/examples/jsm/utils/BufferGeometryUtils.js'
import type { Packed } from '../api/client'
import type { StudyDoc } from '../api/model'
import type { SceneFacts } from '../stores/look'
import { clear, material, seen, solid as hides } from './materials'

/** Which shapes are what: `solid` ones stand in the way of something, `outlined` ones only bring something in. */
export interface Parts {
  selected: string | null
  solid: Set<string>
  outlined: Set<string>
}

export function drawShapes(
  group: THREE.Group,
  packed: Packed<SceneFacts> | null,
  doc: StudyDoc | null,
  { selected, solid: solids, outlined }: Parts,
) {
  clear(group)
  if (!packed || !doc) return
  for (const shape of packed.facts.shapes) {
    const part = doc.shapes.find((s) => s.id === shape.id)
    const vertices = packed.arrays[`${shape.id}.vertices`]
    if (!vertices || !part || (!part.shown && selected !== shape.id)) continue
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(vertices as Float32Array, 3))
    geometry.setIndex(new THREE.BufferAttribute(new Uint32Array(packed.arrays[`${shape.id}.faces`]), 1))
    const solid = solids.has(shape.id) || part.kind === 'mesh'
    const chosen = selected === shape.id
    if (outlined.has(shape.id) && !solids.has(shape.id)) {
      group.add(outlineOf(geometry, shape.id, chosen))
      continue
    }
    const flat = toCreasedNormals(geometry, 0.6)
    geometry.dispose()
    const mesh = new THREE.Mesh(
      flat,
      material(`shape.${solid}.${chosen}.${part.kind}`, () =>
        seen(
          new THREE.MeshLambertMaterial({
            color: chosen ? (solid ? 0xccb5a2 : 0xe3b6a2) : solid ? 0xbdb4a3 : 0x6f7f9c,
            transparent: !solid,
            opacity: solid ? 1 : chosen ? 0.4 : MADE.includes(part.kind) ? 0.34 : 0.22,
            side: THREE.DoubleSide,
            forceSinglePass: true, // one program less to compile; both sides are as pale
            depthWrite: solid,
          }),
        ),
      ),
    )
    mesh.castShadow = mesh.receiveShadow = solid
    if (solid) hides(mesh)
    mesh.name = shape.id
    group.add(mesh)
  }
}
/** Shapes that come from fields, runs and curves are looked at for their own sake. */
const MADE = ['field_surface', 'deformed', 'run_mesh']

/** The edges of a shape whose flow is seen, and its skin for the pointer only. */
function outlineOf(geometry: THREE.BufferGeometry, name: string, chosen: boolean): THREE.Object3D {
  const edges = new THREE.LineSegments(
    new THREE.EdgesGeometry(geometry, 28),
    material(
      `emits.${chosen}`,
      () => new THREE.LineBasicMaterial({ color: chosen ? 0xe3b6a2 : 0x8fa3c4, transparent: true, opacity: 0.55 }),
    ),
  )
  const skin = new THREE.Mesh(
    geometry,
    material(
      'unseen',
      () => new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, colorWrite: false, depthWrite: false }),
    ),
  )
  skin.name = name
  const both = new THREE.Group()
  both.name = name
  both.add(edges, skin)
  return both
}

/** The cells of a region on its floor and two sides; at most every 200th line is drawn. */
function cellsOf(
  at: (i: number, j: number, k: number) => THREE.Vector3,
  shape: number[],
  colour: number,
): THREE.LineSegments {
  const origin = at(0, 0, 0)
  const axes = [at(1, 0, 0), at(0, 1, 0), at(0, 0, 1)].map((p) => p.sub(origin))
  const points: THREE.Vector3[] = []
  for (const [a, b] of [
    [0, 1],
    [1, 0],
    [0, 2],
    [2, 0],
    [1, 2],
    [2, 1],
  ]) {
    const every = Math.max(1, Math.ceil(shape[a] / 200))
    for (let i = 0; i <= shape[a]; i += every) {
      const p = origin.clone().addScaledVector(axes[a], i / shape[a])
      points.push(p, p.clone().add(axes[b]))
    }
  }
  return new THREE.LineSegments(
    new THREE.BufferGeometry().setFromPoints(points),
    material(
      `cells.${colour}`,
      () => new THREE.LineBasicMaterial({ color: colour, transparent: true, opacity: 0.28, depthWrite: false }),
    ),
  )
}

export function drawRegions(group: THREE.Group, packed: Packed<SceneFacts> | null, selected: string | null) {
  clear(group)
  for (const r of packed?.facts.regions ?? []) {
    const colour = selected === r.id ? 0xe07a5c : 0x5b6b88
    const at = (i: number, j: number, k: number) => new THREE.Vector3(...r.corners[4 * i + 2 * j + k])
    const edges: THREE.Vector3[] = []
    for (const a of [0, 1])
      for (const b of [0, 1]) edges.push(at(0, a, b), at(1, a, b), at(a, 0, b), at(a, 1, b), at(a, b, 0), at(a, b, 1))
    const lines = new THREE.LineSegments(
      new THREE.BufferGeometry().setFromPoints(edges),
      material(`box.${colour}`, () => new THREE.LineDashedMaterial({ color: colour, dashSize: 0.12, gapSize: 0.1 })),
    )
    lines.computeLineDistances()
    group.add(lines)
    if (r.cells) group.add(cellsOf(at, r.shape, colour))
  }
}
