/** The surface of a flow as triangles: wet, clear where it is thin; or coloured by a channel. */
import * as THREE from 'three'
import type { FlowLook } from '../api/model'
import type { Layer } from '../forms/layers'
import type { MeshPart, Part } from '../forms/frames'
import { maps, mixed } from '../lib/colour'
import { LIT, shared } from './light'
import { seen, solid } from './materials'

const vertex = `
attribute float tone; attribute float thickness; attribute vec3 colours;
uniform float low; uniform float high; uniform float mapLow; uniform float mapHigh; uniform float thickest;
varying vec3 place; varying vec3 across; varying float share; varying float thick; varying vec3 own;
void main() {
  place = position;
  across = normal;
  own = colours;
  thick = thickness * thickest;
  share = clamp((low + tone * (high - low) - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
}`
// Fresnel by Schlick (1994)
const fragment = `
varying vec3 place; varying vec3 across; varying float share; varying float thick; varying vec3 own;
uniform sampler2D lut; uniform vec3 tint; uniform float wet; uniform float painted; uniform float deep;
uniform float opacity; uniform float dim; uniform vec3 away;
${LIT}
void main() {
  vec3 toward = isOrthographic ? away : normalize(cameraPosition - place);
  vec3 n = normalize(across);
  if (dot(n, toward) < 0.0) n = -n;
  float reaches = keyReaches(place + 0.01 * deep * n);
  vec3 light = lightOn(place, n, reaches);
  vec3 back = reflect(-toward, n);
  float shine = pow(max(dot(back, keyWay), 0.0), 160.0) * reaches;
  vec3 base = painted > 0.5 ? linear(own) : tint;
  float far = isOrthographic ? 0.0 : distance(cameraPosition, place);
  if (wet > 0.5) {
    float full = 1.0 - exp(-2.3 * thick / deep);
    float edge = 0.03 + 0.97 * pow(1.0 - max(dot(n, toward), 0.0), 5.0);
    vec3 pale = mix(base, vec3(0.92, 0.96, 1.0), 0.38);
    // what enters is scattered on its way: light from behind shines through where it is thin
    vec3 body = mix(pale, base, full) * (light + keyColour * 0.25 * (1.0 - full) * max(dot(-n, keyWay), 0.0));
    vec3 all = mix(body, environment(back), edge) + keyColour * 4.0 * shine;
    gl_FragColor = vec4(inFog(all, far), clamp(0.30 + 0.68 * full + edge + shine, 0.0, 1.0) * opacity * dim);
  } else {
    vec3 c = painted > 0.5 ? base : linear(texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb);
    gl_FragColor = vec4(inFog(c * light + keyColour * 0.25 * shine, far), opacity * dim);
  }
  #include <colorspace_fragment>
}`

export class MeshLayer implements Layer {
  private part: MeshPart | null = null
  private readonly rgba = new Uint8Array(256 * 4)
  private readonly lut = new THREE.DataTexture(this.rgba, 256, 1)
  private map = ''
  private readonly material = seen(
    new THREE.ShaderMaterial({
      vertexShader: vertex,
      fragmentShader: fragment,
      transparent: true,
      side: THREE.DoubleSide,
      uniforms: {
        ...shared,
        lut: { value: this.lut },
        tint: { value: new THREE.Color() },
        away: { value: new THREE.Vector3(0, 0, 1) },
        ...Object.fromEntries(
          ['wet', 'painted', 'deep', 'opacity', 'dim', 'thickest', 'low', 'high', 'mapLow', 'mapHigh'].map((name) => [
            name,
            { value: 1 },
          ]),
        ),
      },
    }),
  )
  private readonly mesh = new THREE.Mesh(new THREE.BufferGeometry(), this.material)
  readonly object = solid(this.mesh)

  constructor() {
    this.mesh.frustumCulled = false
    this.mesh.renderOrder = 3
    this.mesh.castShadow = true
    this.mesh.customDepthMaterial = new THREE.MeshDepthMaterial({ side: THREE.DoubleSide })
    this.mesh.onBeforeRender = (_renderer, _scene, camera) => {
      camera.getWorldDirection(this.material.uniforms.away.value as THREE.Vector3).negate()
    }
  }
  private paint(look: FlowLook) {
    const key = look.map === 'mix' ? `mix${look.first}${look.last}` : look.map
    if (this.map === key) return
    this.map = key
    const table = look.map === 'mix' ? mixed(look.first, look.last) : maps[look.map]
    for (let i = 0; i < 256; i++) this.rgba.set([table[3 * i], table[3 * i + 1], table[3 * i + 2], 255], 4 * i)
    this.lut.needsUpdate = true
  }
  show(part: Part | null, look: FlowLook, range: [number, number], stale: boolean) {
    const found = part as MeshPart | null
    this.mesh.visible = !!found?.faces.length && look.shown
    if (!found || !this.mesh.visible) return
    this.paint(look)
    if (found !== this.part) this.take(found)
    const { head } = found
    const fits = head.channel === look.colour // else the tone is of another channel, and has its own range
    const [low, high] = fits ? range : [head.low, head.high]
    const u = this.material.uniforms
    ;(u.tint.value as THREE.Color).set(look.tint)
    const values = {
      wet: Number(look.paint === 'wet' || !found.normals),
      painted: Number(!!found.colours),
      deep: look.deep,
      opacity: look.opacity,
      dim: stale ? 0.35 : 1,
      low: head.low,
      high: head.high,
      mapLow: low,
      mapHigh: high > low ? high : low + 1,
      thickest: found.thickness ? head.thickest : look.deep * 4,
    }
    for (const [name, value] of Object.entries(values)) u[name].value = value
  }
  private take(found: MeshPart) {
    this.part = found
    const g = new THREE.BufferGeometry()
    g.setAttribute('position', new THREE.BufferAttribute(found.vertices, 3))
    g.setIndex(new THREE.BufferAttribute(found.faces, 1))
    if (found.normals) g.setAttribute('normal', new THREE.BufferAttribute(found.normals, 3, true))
    else g.computeVertexNormals()
    const count = found.vertices.length / 3
    const one = (a: Uint8Array | undefined, size = 1) =>
      new THREE.BufferAttribute(a ?? new Uint8Array(count * size).fill(255), size, true)
    g.setAttribute('tone', one(found.tone))
    g.setAttribute('thickness', one(found.thickness))
    g.setAttribute('colours', one(found.colours, 3))
    this.mesh.geometry.dispose()
    this.mesh.geometry = g
  }
  draft() {}
  outline() {}
  gas() {
    return null
  }
  dispose() {
    this.mesh.geometry.dispose()
    this.material.dispose()
    this.lut.dispose()
  }
}
