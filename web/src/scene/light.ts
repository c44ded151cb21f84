/** The light of the view: a key that throws shadows, a sky and a fill, and what burns; one set of numbers for every
 * shader, and three.js's own lights for what has its materials. */
import * as THREE from 'three'
import shown from '../api/shown.json'
import type { LightLook, Vec3 } from '../api/model'

const colour = (name: keyof typeof shown.light) => new THREE.Color(...(shown.light[name] as Vec3))
const [KEY, SKY, LOW, FILL] = [colour('key'), colour('sky'), colour('low'), colour('fill')]
const usual = shown.strength
/** Fires that light what is near: as many as shaders have room for. */
export const FIRES = 2
const SHADOW = 1024

/** What lights a view, and how it is seen. */
const lighting = () => ({
  keyWay: { value: new THREE.Vector3(-0.35, -0.45, 0.82).normalize() },
  keyColour: { value: new THREE.Color() },
  skyColour: { value: new THREE.Color() },
  lowColour: { value: new THREE.Color() },
  fillWay: { value: new THREE.Vector3(0.6, 0.7, 0.3).normalize() },
  fillColour: { value: new THREE.Color() },
  shadowMap: { value: null as THREE.Texture | null },
  shadowMatrix: { value: new THREE.Matrix4() },
  shadowed: { value: 0 },
  firePlace: { value: Array.from({ length: FIRES }, () => new THREE.Vector4(0, 0, 0, 1)) },
  fireColour: { value: Array.from({ length: FIRES }, () => new THREE.Color(0, 0, 0)) },
  /** Fog: share a metre that is lost, and the colour it is lost to. */
  fogged: { value: 0 },
  fogColour: { value: new THREE.Color(0x14233a) },
  /** One over the exposure: for what looks the same however bright the rest is. */
  unexposed: { value: 1 },
})
/** What all shaders share: given to materials by reference, with the values of the view that draws (`Lights.shine`). */
export const shared = lighting()

/** GLSL that needs `shared`: how much of each light comes to a place. Colours are linear. */
export const LIT = `
uniform vec3 keyWay, keyColour, skyColour, lowColour, fillWay, fillColour, fogColour;
uniform highp sampler2DShadow shadowMap; uniform mat4 shadowMatrix; uniform float shadowed; uniform float fogged;
uniform vec4 firePlace[${FIRES}]; uniform vec3 fireColour[${FIRES}]; uniform float unexposed;
float keyReaches(vec3 place) {
  if (shadowed < 0.5) return 1.0;
  vec3 s = (shadowMatrix * vec4(place, 1.0)).xyz;
  if (any(lessThan(s, vec3(0.0))) || any(greaterThan(s, vec3(1.0)))) return 1.0;
  return texture(shadowMap, vec3(s.xy, s.z - 0.002));
}
vec3 firesOn(vec3 place, vec3 n) {
  vec3 sum = vec3(0.0);
  for (int i = 0; i < ${FIRES}; i++) {
    vec3 to = firePlace[i].xyz - place;
    float far = dot(to, to) + firePlace[i].w * firePlace[i].w;
    sum += fireColour[i] * max(dot(n, to) * inversesqrt(far) * 0.7 + 0.3, 0.0) / far;
  }
  return sum;
}
vec3 lightOn(vec3 place, vec3 n, float reaches) {
  return keyColour * max(dot(n, keyWay), 0.0) * reaches + mix(lowColour, skyColour, 0.5 + 0.5 * n.z)
    + fillColour * max(dot(n, fillWay), 0.0) + firesOn(place, n);
}
vec3 environment(vec3 d) {
  vec3 sky = mix(lowColour * 0.6, skyColour * 1.5, smoothstep(-0.25, 0.95, d.z));
  return sky + keyColour * 0.30 * pow(max(dot(d, keyWay), 0.0), 6.0) + fillColour * pow(max(dot(d, fillWay), 0.0), 3.0);
}
vec3 inFog(vec3 colour, float far) {
  return fogged > 0.0 ? mix(fogColour * unexposed, colour, exp(-fogged * far)) : colour;
}
vec3 linear(vec3 c) { return mix(c / 12.92, pow((c + 0.055) / 1.055, vec3(2.4)), step(vec3(0.04045), c)); }
`

export interface Fire {
  place: THREE.Vector3
  /** How large it is, in m: within that it does not grow brighter. */
  size: number
  colour: THREE.Color
}

/** Direction toward a light from its azimuth (from +x toward +y) and height above the floor, in degrees. */
export function toward(azimuth: number, height: number): Vec3 {
  const [a, h] = [azimuth, height].map((d) => (d * Math.PI) / 180)
  return [Math.cos(a) * Math.cos(h), Math.sin(a) * Math.cos(h), Math.sin(h)]
}

export class Lights {
  readonly group = new THREE.Group()
  private readonly key = new THREE.DirectionalLight(KEY, 1)
  private readonly sky = new THREE.HemisphereLight(SKY, LOW, 1)
  private readonly fill = new THREE.DirectionalLight(FILL, 1)
  private readonly fires = Array.from({ length: FIRES }, () => new THREE.PointLight(0xffffff, 0, 0, 2))
  private readonly middle = new THREE.Vector3()
  private radius = 4
  /** As this view is lit: of several that are open at once each has its own. */
  private readonly own = lighting()

  constructor(private readonly renderer: THREE.WebGLRenderer) {
    renderer.shadowMap.enabled = true
    renderer.shadowMap.type = THREE.PCFShadowMap
    renderer.shadowMap.autoUpdate = false
    this.key.castShadow = true
    this.key.shadow.mapSize.set(SHADOW, SHADOW)
    this.key.shadow.normalBias = 0.02
    this.group.add(this.key, this.key.target, this.sky, this.fill, this.fill.target, ...this.fires)
  }
  /** Shaders take what lights this view: before each of its pictures. */
  shine() {
    for (const name of Object.keys(shared) as (keyof typeof shared)[])
      (shared[name] as THREE.IUniform).value = this.own[name].value
  }
  /** How bright what is not exposed has to be to look as it is. */
  unexpose(value: number) {
    this.own.unexposed.value = value
  }
  /** As a study says; strengths are times what is usual. */
  set(look: LightLook) {
    const way = toward(look.azimuth, look.height)
    this.own.keyWay.value.set(...way)
    // from the other side, low, so that what the key leaves dark keeps its form
    this.own.fillWay.value.set(...toward(look.azimuth + 155, 18))
    this.own.keyColour.value.copy(KEY).multiplyScalar(usual.key * look.key)
    this.own.skyColour.value.copy(SKY).multiplyScalar(usual.sky * look.sky)
    this.own.lowColour.value.copy(LOW).multiplyScalar(usual.low * look.sky)
    this.own.fillColour.value.copy(FILL).multiplyScalar(usual.fill * look.fill)
    this.own.fogged.value = look.fog
    for (const [light, colour] of [
      [this.key, this.own.keyColour],
      [this.sky, this.own.skyColour],
      [this.fill, this.own.fillColour],
    ] as const) {
      light.color.copy(colour.value)
      light.intensity = Math.PI // three.js divides by π where it is taken up
    }
    this.sky.groundColor.copy(this.own.lowColour.value)
    this.sky.position.set(0, 0, 1)
    this.place()
  }
  /** What the shadows have to cover. */
  cover(middle: THREE.Vector3, radius: number) {
    this.middle.copy(middle)
    this.radius = radius
    this.place()
  }
  private place() {
    const { key, fill, middle, radius } = this
    key.target.position.copy(middle)
    key.position.copy(middle).addScaledVector(this.own.keyWay.value, 2 * radius)
    fill.target.position.copy(middle)
    fill.position.copy(middle).addScaledVector(this.own.fillWay.value, 2 * radius)
    this.view.position.copy(key.position)
    for (const camera of [key.shadow.camera, this.view]) {
      const [left, right, top, bottom] = [-radius, radius, radius, -radius]
      Object.assign(camera, { left, right, top, bottom, near: radius * 0.5, far: radius * 3.5 })
      camera.up.set(0, 1, 0)
      camera.updateProjectionMatrix()
    }
    this.view.lookAt(middle)
    this.view.updateMatrixWorld(true)
    key.shadow.bias = -0.0006
    this.group.updateMatrixWorld(true)
    this.stale()
  }
  /** What throws shadows has changed. */
  stale() {
    this.renderer.shadowMap.needsUpdate = true
  }
  /** The scene as the key sees it. */
  readonly view = new THREE.OrthographicCamera()
  /** Tell shaders of the shadows that were drawn last; whether there are some that no picture has made yet. */
  share(casts: boolean): boolean {
    this.own.shadowMap.value = this.key.shadow.map?.depthTexture ?? null
    this.own.shadowMatrix.value = this.key.shadow.matrix
    this.own.shadowed.value = casts && this.own.shadowMap.value ? 1 : 0
    return casts && !this.own.shadowMap.value
  }
  burn(fires: Fire[]) {
    const first = [...fires].sort((a, b) => b.colour.r - a.colour.r).slice(0, FIRES)
    for (let i = 0; i < FIRES; i++) {
      const fire = first[i]
      const { x, y, z } = fire?.place ?? new THREE.Vector3()
      this.own.firePlace.value[i].set(x, y, z, fire?.size ?? 1)
      if (fire) this.own.fireColour.value[i].copy(fire.colour)
      else this.own.fireColour.value[i].setRGB(0, 0, 0)
      this.fires[i].position.set(x, y, z)
      this.fires[i].color.copy(this.own.fireColour.value[i])
      this.fires[i].intensity = fire ? Math.PI : 0
    }
  }
  dispose() {
    this.key.shadow.map?.dispose()
  }
}
