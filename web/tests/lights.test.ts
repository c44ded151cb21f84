/** Several views are open at once, in Compare: each is lit by its own light, whichever drew last. */
import * as THREE from 'three'
import { describe, expect, it } from 'vitest'
import { Lights, shared } from '../src/scene/light'

const usual = {
  azimuth: 230,
  height: 50,
  key: 1,
  sky: 1,
  fill: 1,
  fog: 0,
  exposure: 0,
  bloom: 0,
  curve: 'film',
} as const

function made(shadow: boolean) {
  const lights = new Lights({ shadowMap: {} } as THREE.WebGLRenderer)
  lights.set(usual as never)
  const key = lights.group.children.find((o) => o instanceof THREE.DirectionalLight && o.castShadow)
  const map = { depthTexture: new THREE.Texture() }
  Object.assign((key as THREE.DirectionalLight).shadow, { map: shadow ? map : null })
  lights.share(shadow)
  return { lights, map: map.depthTexture }
}

describe('light of views that are open at once', () => {
  it('keeps the shadow of a view when another that has none draws after it', () => {
    const [one, other] = [made(true), made(false)]
    one.lights.shine()
    expect([shared.shadowed.value, shared.shadowMap.value]).toEqual([1, one.map])
    other.lights.shine()
    expect([shared.shadowed.value, shared.shadowMap.value]).toEqual([0, null])
    one.lights.shine()
    expect([shared.shadowed.value, shared.shadowMap.value]).toEqual([1, one.map])
  })
  it('keeps fires, fog and exposure apart', () => {
    const [one, other] = [made(false), made(false)]
    const fire = { place: new THREE.Vector3(1, 2, 3), size: 0.5, colour: new THREE.Color(4, 2, 1) }
    one.lights.burn([fire])
    one.lights.unexpose(0.25)
    other.lights.set({ ...usual, fog: 0.3 } as never)
    other.lights.unexpose(4)
    one.lights.shine()
    expect(shared.firePlace.value[0].toArray()).toEqual([1, 2, 3, 0.5])
    expect([shared.fogged.value, shared.unexposed.value]).toEqual([0, 0.25])
    other.lights.shine()
    expect(shared.fireColour.value[0].toArray()).toEqual([0, 0, 0])
    expect([shared.fogged.value, shared.unexposed.value]).toEqual([0.3, 4])
  })
  it('is given to materials by reference', () => {
    const material = new THREE.ShaderMaterial({ uniforms: { ...shared } })
    const { lights } = made(true)
    lights.unexpose(7)
    lights.shine()
    expect(material.uniforms.unexposed.value).toBe(7)
  })
})
