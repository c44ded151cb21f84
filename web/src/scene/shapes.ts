/** Shapes as solids, regions as boxes of hairlines. */
import * as THREE from 'three'
import type { Packed } from '../api/client'
import type { StudyDoc } from '../api/types'
import type { SceneFacts } from '../stores/look'
import { clear } from './viewer'

export function drawShapes(group: THREE.Group, packed: Packed<SceneFacts> | null, doc: StudyDoc | null, selected: string | null, obstacles: Set<string>) {
  clear(group)
  if (!packed || !doc) return
  for (const shape of packed.facts.shapes) {
    const part = doc.shapes.find((s) => s.id === shape.id)
    const vertices = packed.arrays[`${shape.id}.vertices`]
    if (!vertices || !part || (!part.shown && selected !== shape.id)) continue
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(vertices as Float32Array, 3))
    geometry.setIndex(new THREE.BufferAttribute(new Uint32Array(packed.arrays[`${shape.id}.faces`]), 1))
    const flat = geometry.toNonIndexed()
    flat.computeVertexNormals()
    geometry.dispose()
    const solid = obstacles.has(shape.id) || part.kind === 'mesh'
    const chosen = selected === shape.id
    const material = new THREE.MeshLambertMaterial({
      color: chosen ? 0xe3b6a2 : solid ? 0xd9d0bd : 0x6f7f9c, transparent: !solid, opacity: solid ? 1 : chosen ? 0.4 : 0.22,
      side: THREE.DoubleSide, depthWrite: solid,
    })
    const mesh = new THREE.Mesh(flat, material)
    mesh.name = shape.id
    group.add(mesh)
  }
}

export function drawRegions(group: THREE.Group, packed: Packed<SceneFacts> | null, selected: string | null) {
  clear(group)
  for (const r of packed?.facts.regions ?? []) {
    const box = new THREE.BoxGeometry(...(r.upper.map((v, i) => v - r.lower[i]) as [number, number, number]))
    const lines = new THREE.LineSegments(
      new THREE.EdgesGeometry(box),
      new THREE.LineDashedMaterial({ color: selected === r.id ? 0xe07a5c : 0x5b6b88, dashSize: 0.12, gapSize: 0.1 }),
    )
    box.dispose()
    lines.position.set(...(r.lower.map((v, i) => (v + r.upper[i]) / 2) as [number, number, number]))
    lines.computeLineDistances()
    group.add(lines)
  }
}
