/** What lies under the scene and behind it: a ground that catches shadows, with a grid of metres, and the dark of the
 * view. */
import * as THREE from 'three'
import { LIT, shared } from './light'
import { covering, seen } from './materials'

const vertex = `
varying vec3 place;
void main() {
  place = (modelMatrix * vec4(position, 1.0)).xyz;
  gl_Position = projectionMatrix * viewMatrix * vec4(place, 1.0);
}`
const fragment = `
varying vec3 place; uniform vec2 middle; uniform float reach; uniform float cell;
uniform sampler2D gas; uniform mat4 gasMatrix; uniform float gasThere;
${LIT}
float lines(float every, float width) {
  vec2 p = place.xy / every;
  vec2 d = fwidth(p);
  vec2 near = abs(fract(p - 0.5) - 0.5) / max(d, vec2(1e-6));
  float faint = clamp(1.0 - 2.0 * max(d.x, d.y), 0.0, 1.0);
  return (1.0 - clamp(min(near.x, near.y) - width, 0.0, 1.0)) * faint;
}
void main() {
  float far = length(place.xy - middle) / reach;
  float there = pow(1.0 - smoothstep(0.0, 1.0, far), 1.5);
  if (there <= 0.0) discard;
  float reaches = keyReaches(place);
  if (gasThere > 0.5) {
    vec3 s = (gasMatrix * vec4(place, 1.0)).xyz;
    if (all(greaterThan(s.xy, vec2(0.0))) && all(lessThan(s.xy, vec2(1.0)))) reaches *= texture2D(gas, s.xy).r;
  }
  vec3 n = vec3(0.0, 0.0, 1.0);
  vec3 own = vec3(0.036, 0.056, 0.1);
  own *= 1.0 + 0.5 * lines(cell, 0.2) + 0.4 * lines(cell * 5.0, 0.4);
  vec3 light = own * lightOn(place, n, reaches);
  gl_FragColor = vec4(light, there);
}`
const behind = `
varying vec2 at; uniform float unexposed;
void main() {
  // lighter toward the bottom, as the sea-dark of the panels has it
  vec2 p = vec2((at.x - 0.5) / 1.2, (at.y + 0.1) / 0.9);
  vec3 deep = vec3(0.00477, 0.01096, 0.02624), near = vec3(0.01096, 0.02732, 0.06662);
  gl_FragColor = vec4(mix(near, deep, smoothstep(0.0, 0.6, length(p))) * unexposed, 1.0);
}`

export class Ground {
  readonly object = new THREE.Group()
  private readonly plane: THREE.Mesh<THREE.PlaneGeometry, THREE.ShaderMaterial>
  private readonly dark: THREE.Mesh<THREE.BufferGeometry, THREE.ShaderMaterial>

  constructor() {
    this.plane = new THREE.Mesh(
      new THREE.PlaneGeometry(1, 1),
      seen(
        new THREE.ShaderMaterial({
          vertexShader: vertex,
          fragmentShader: fragment,
          transparent: true,
          depthWrite: false,
          polygonOffset: true, // behind a floor of one's own at the same height
          polygonOffsetFactor: 1,
          polygonOffsetUnits: 4,
          uniforms: {
            ...shared,
            middle: { value: new THREE.Vector2() },
            reach: { value: 5 },
            cell: { value: 1 },
            gas: { value: null },
            gasMatrix: { value: new THREE.Matrix4() },
            gasThere: { value: 0 },
          },
        }),
      ),
    )
    this.dark = new THREE.Mesh(
      covering(),
      seen(
        new THREE.ShaderMaterial({
          vertexShader:
            'varying vec2 at; void main() { at = position.xy * 0.5 + 0.5; gl_Position = vec4(position.xy, 1.0, 1.0); }',
          fragmentShader: behind,
          depthTest: false,
          depthWrite: false,
          uniforms: { unexposed: shared.unexposed },
        }),
      ),
    )
    this.dark.frustumCulled = false
    this.dark.renderOrder = -20
    this.plane.renderOrder = -10 // before all that is transparent; after it nothing solid is hidden by it
    this.plane.visible = false
    this.object.add(this.dark, this.plane)
  }
  /** Under a box, as far as its shadows fall. */
  put(lower: THREE.Vector3, upper: THREE.Vector3) {
    const size = upper.clone().sub(lower)
    const reach = Math.max(size.x, size.y, size.z) * 1.5
    const u = this.plane.material.uniforms
    u.middle.value.set((lower.x + upper.x) / 2, (lower.y + upper.y) / 2)
    u.reach.value = reach
    const wide = 10 ** Math.round(Math.log10(Math.max(size.x, size.y, 1e-6) / 5))
    u.cell.value = Math.max(wide, 1e-4)
    this.plane.scale.set(2 * reach, 2 * reach, 1)
    this.plane.position.set(u.middle.value.x, u.middle.value.y, Math.min(0, lower.z < -0.5 ? 0 : lower.z))
    this.plane.visible = true
  }
  /** Shares of the key's light that come through gas, by `matrix` from the scene to the texture. */
  shade(texture: THREE.Texture | null, matrix: THREE.Matrix4) {
    const u = this.plane.material.uniforms
    u.gas.value = texture
    u.gasMatrix.value.copy(matrix)
    u.gasThere.value = texture ? 1 : 0
  }
  dispose() {
    for (const m of [this.plane, this.dark]) {
      m.geometry.dispose()
      m.material.dispose()
    }
  }
}
