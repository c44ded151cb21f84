/** Instances of a flow: one mesh drawn many times by the GPU, turned, sized and coloured one by one. */
import * as THREE from 'three'
import type { Packed } from '../api/client'
import type { DrawnHead, FlowLook } from '../api/model'
import { index, maps, mixed, type Mapping } from '../lib/colour'
import { material, seen, solid } from './materials'

/** Meshes by key, as the server names their content; kept for as long as the page is open, at most so many. */
const meshes = new Map<string, THREE.BufferGeometry>()
const KEPT = 24
export const knownMeshes = () => [...meshes.keys()]

/** Take the meshes out of a reply that are not known yet. */
export function keepMeshes(packed: Packed<DrawnHead>) {
  for (const key of packed.facts.prototypes) {
    const vertices = packed.arrays[`${key}.vertices`] as Float32Array | undefined
    if (!vertices || meshes.has(key)) continue
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(vertices, 3))
    g.setIndex(new THREE.BufferAttribute(new Uint32Array(packed.arrays[`${key}.faces`] as Int32Array), 1))
    g.computeVertexNormals()
    meshes.set(key, g)
  }
  for (const key of meshes.keys()) {
    if (meshes.size <= KEPT) break
    if (packed.facts.prototypes.includes(key)) continue
    meshes.get(key)!.dispose()
    meshes.delete(key)
  }
}

/** Whether there are instances and they are few enough for the view; else points are shown in their place. */
export const areDrawn = (packed: Packed<DrawnHead> | null) =>
  !!packed?.facts.on && packed.facts.triangles <= packed.facts.most

export function drawInstances(
  group: THREE.Group,
  packed: Packed<DrawnHead> | null,
  look: FlowLook,
  range: [number, number],
  stale: boolean,
) {
  for (const child of [...group.children]) {
    group.remove(child)
    ;(child as THREE.InstancedMesh).dispose()
  }
  group.visible = look.shown
  const points = packed?.arrays['instances.points'] as Float32Array | undefined
  if (!packed || !points?.length || !areDrawn(packed)) return
  const turns = packed.arrays['instances.turns'] as Float32Array
  const sizes = packed.arrays['instances.sizes'] as Float32Array
  const which = packed.arrays['instances.which'] as Int32Array
  const tone = packed.arrays['instances.tone'] as Float32Array
  const table = look.map === 'mix' ? mixed(look.first, look.last) : maps[look.map]
  const m: Mapping = { low: range[0], high: range[1], map: 'sequential' }
  const counts = packed.facts.prototypes.map((_, p) => which.reduce((n, w) => n + Number(w === p), 0))
  const matrix = new THREE.Matrix4(),
    at = new THREE.Vector3(),
    turn = new THREE.Quaternion(),
    scale = new THREE.Vector3(),
    colour = new THREE.Color()
  packed.facts.prototypes.forEach((key, p) => {
    const g = meshes.get(key)
    if (!g || !counts[p]) return
    const name = `instances.${stale}`
    const mesh = new THREE.InstancedMesh(
      g,
      material(name, () =>
        seen(
          new THREE.MeshStandardMaterial({
            roughness: 0.55,
            metalness: 0.05,
            side: THREE.DoubleSide,
            transparent: stale,
            opacity: stale ? 0.35 : 1,
          }),
        ),
      ),
      counts[p],
    )
    let o = 0
    for (let i = 0; i < which.length; i++) {
      if (which[i] !== p) continue
      at.fromArray(points, 3 * i)
      turn.set(turns[4 * i + 1], turns[4 * i + 2], turns[4 * i + 3], turns[4 * i])
      scale.setScalar(sizes[i])
      mesh.setMatrixAt(o, matrix.compose(at, turn, scale))
      const k = index(tone[i], m) * 3
      mesh.setColorAt(o++, colour.setRGB(table[k] / 255, table[k + 1] / 255, table[k + 2] / 255, THREE.SRGBColorSpace))
    }
    mesh.frustumCulled = false
    mesh.castShadow = !stale
    mesh.receiveShadow = true
    group.add(solid(mesh))
  })
}
