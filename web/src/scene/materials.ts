/** Materials that are kept: a material made anew for every redraw would have its shaders compiled anew, tens of
 * milliseconds each. */
import * as THREE from 'three'

const kept = new Map<string, THREE.Material>()

/** The material of that name, made when it is first asked for. The name has to say everything that `make`
 * depends on. */
export function material<M extends THREE.Material>(name: string, make: () => M): M {
  let found = kept.get(name)
  if (!found) {
    found = make()
    found.userData.kept = true
    kept.set(name, found)
  }
  return found as M
}

/** Remove and free what a layer drew before; kept materials stay, their textures too. */
export function clear(group: THREE.Object3D) {
  for (const child of [...group.children]) {
    group.remove(child)
    const o = child as THREE.Mesh
    o.geometry?.dispose()
    for (const m of Array.isArray(o.material) ? o.material : o.material ? [o.material] : [])
      if (!m.userData.kept) m.dispose()
  }
}
