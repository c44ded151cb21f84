/** Particles as points: one buffer, coloured on the GPU by speed or age. */
import * as THREE from 'three'
import { maps } from '../lib/colour'
import type { Frame } from '../stores/runs'

const vertex = `
attribute float tone; attribute float fade;
uniform sampler2D lut; uniform float pale; uniform float size; uniform float scale;
varying vec4 tint;
void main() {
  vec4 p = modelViewMatrix * vec4(position, 1.0);
  gl_Position = projectionMatrix * p;
  // in a parallel view all points are as far as what is looked at: half its height over the tangent of half the lens
  float away = projectionMatrix[3][3] > 0.5 ? 1.0 / (projectionMatrix[1][1] * 0.3443) : -p.z;
  gl_PointSize = clamp(size * scale / away, 1.0, 14.0);
  vec3 c = texture2D(lut, vec2(clamp(tone, 0.0, 1.0) * 0.996 + 0.002, 0.5)).rgb;
  tint = vec4(mix(vec3(0.72, 0.82, 0.95), c, pale), fade);
}`
const fragment = `
varying vec4 tint; uniform float strength;
void main() {
  vec2 q = gl_PointCoord * 2.0 - 1.0;
  float a = 1.0 - dot(q, q);
  if (a <= 0.0) discard;
  gl_FragColor = vec4(tint.rgb, tint.a * strength * a);
}`

/** As many are drawn in coarse pictures. */
const DRAFT = 20_000

export class Particles {
  private count = 0
  private coarse = false
  private order = new Uint32Array(0)
  readonly points: THREE.Points
  private readonly rgba = new Uint8Array(256 * 4)
  private readonly lut: THREE.DataTexture
  private map = ''
  private readonly material: THREE.ShaderMaterial

  constructor() {
    const lut = new THREE.DataTexture(this.rgba, 256, 1)
    this.lut = lut
    this.paint('sequential')
    this.material = new THREE.ShaderMaterial({
      vertexShader: vertex, fragmentShader: fragment, transparent: true, depthWrite: false,
      uniforms: { lut: { value: lut }, size: { value: 2 }, pale: { value: 0.8 }, scale: { value: 9 }, strength: { value: 0.5 } },
    })
    this.points = new THREE.Points(new THREE.BufferGeometry(), this.material)
    this.points.frustumCulled = false
    this.points.renderOrder = 4
  }
  private paint(map: keyof typeof maps) {
    if (this.map === map) return
    this.map = map
    for (let i = 0; i < 256; i++) this.rgba.set([maps[map][3 * i], maps[map][3 * i + 1], maps[map][3 * i + 2], 255], 4 * i)
    this.lut.needsUpdate = true
  }
  show(frame: Frame | null, high: number, look: { colour?: string; size?: number; blend?: string; map?: string }, stale: boolean) {
    this.paint(look.map === 'heat' ? 'heat' : 'sequential')
    const g = this.points.geometry
    if (!frame || !frame.count) { this.points.visible = false; return }
    this.points.visible = true
    const n = frame.count
    const tone = new Float32Array(n)
    const fade = new Float32Array(n)
    const v = frame.velocity
    for (let i = 0; i < n; i++) {
      const share = frame.age[i] / frame.life[i]
      tone[i] = look.colour === 'age' ? share : 0.25 + (0.75 * Math.hypot(v[3 * i], v[3 * i + 1], v[3 * i + 2])) / high
      fade[i] = Math.min(1, (1 - share) * 3) * (stale ? 0.35 : 1)
    }
    g.setAttribute('position', new THREE.BufferAttribute(frame.position, 3))
    g.setAttribute('tone', new THREE.BufferAttribute(tone, 1))
    g.setAttribute('fade', new THREE.BufferAttribute(fade, 1))
    this.count = n
    this.shuffle(n)
    this.draft(this.coarse)
    this.material.uniforms.size.value = look.size ?? 2
    this.material.uniforms.pale.value = look.map === 'heat' ? 1 : 0.8
    this.material.blending = look.blend === 'opaque' ? THREE.NormalBlending : THREE.AdditiveBlending
  }
  /** While the view moves on a machine that draws slowly, a part of them, taken evenly. */
  draft(coarse: boolean) {
    this.coarse = coarse
    this.points.geometry.setDrawRange(0, coarse ? Math.min(this.count, DRAFT) : this.count)
  }
  /** Draw order: a fixed shuffle, so that any beginning of it is an even share of the particles. */
  private shuffle(n: number) {
    if (n <= DRAFT) { this.points.geometry.setIndex(null); return }
    if (this.order.length !== n) {
      this.order = new Uint32Array(n)
      // a stride that shares no factor with n visits all, far apart one after the other
      let stride = Math.floor(n * 0.618034)
      const divides = (a: number, b: number): number => (b ? divides(b, a % b) : a)
      while (divides(stride, n) !== 1) stride++
      for (let i = 0, k = 0; i < n; i++, k = (k + stride) % n) this.order[i] = k
    }
    this.points.geometry.setIndex(new THREE.BufferAttribute(this.order, 1))
  }
  dispose() {
    this.points.geometry.dispose()
    this.material.dispose()
  }
}
