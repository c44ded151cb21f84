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
    child.traverse((part) => {
      const o = part as THREE.Mesh
      o.geometry?.dispose()
      for (const m of Array.isArray(o.material) ? o.material : o.material ? [o.material] : [])
        if (!m.userData.kept) m.dispose()
    })
  }
}

/** What hides smoke behind it is on this layer of three.js too: its distance is drawn before each picture. */
const SOLID = 1
export function solid<O extends THREE.Object3D>(object: O): O {
  object.layers.enable(SOLID)
  return object
}
export const onlySolid = (camera: THREE.Camera) => camera.layers.set(SOLID)

/** A triangle that covers the picture. */
export const covering = () =>
  new THREE.BufferGeometry().setAttribute(
    'position',
    new THREE.Float32BufferAttribute([-1, -1, 0, 3, -1, 0, -1, 3, 0], 3),
  )

/** A material that shows light and not data: it leaves no alpha behind, so that the tone curve takes what it drew.
 * `adds`: light on light, as sparks. `premultiplied`: colours come with their alpha in them. */
export function seen<M extends THREE.Material>(made: M, how: { adds?: boolean; premultiplied?: boolean } = {}): M {
  return Object.assign(made, {
    blending: THREE.CustomBlending,
    blendSrc: how.premultiplied ? THREE.OneFactor : THREE.SrcAlphaFactor,
    blendDst: how.adds ? THREE.OneFactor : THREE.OneMinusSrcAlphaFactor,
    blendSrcAlpha: THREE.ZeroFactor,
    blendDstAlpha: THREE.OneMinusSrcAlphaFactor,
    premultipliedAlpha: !!how.premultiplied,
  })
}
