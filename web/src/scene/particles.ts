/** Particles of one flow as points: quantised buffers as the server sends them, placed and coloured on the GPU. */
import * as THREE from 'three'
import { maps, mixed } from '../lib/colour'
import type { PointsPart } from '../forms/frames'
import type { FlowLook, PointsHead } from '../api/model'

const vertex = `
attribute float tone; attribute float left; attribute vec3 colours; uniform float painted;
uniform vec3 lower; uniform vec3 extent; uniform float low; uniform float high; uniform float mapLow;
uniform float mapHigh;
uniform sampler2D lut; uniform float size; uniform float scale; uniform float dim;
varying vec4 tint;
void main() {
  vec4 p = modelViewMatrix * vec4(lower + position * extent, 1.0);
  gl_Position = projectionMatrix * p;
  // in a parallel view all points are as far as what is looked at: half its height over the tangent of half the lens
  float away = projectionMatrix[3][3] > 0.5 ? 1.0 / (projectionMatrix[1][1] * 0.3443) : -p.z;
  gl_PointSize = clamp(size * scale / away, 1.0, 14.0);
  float value = low + tone * (high - low);
  float share = clamp((value - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
  vec3 chosen = painted > 0.5 ? colours : texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb;
  tint = vec4(chosen, min(1.0, left * 3.0) * dim);
}`
const fragment = `
varying vec4 tint; uniform float strength;
void main() {
  vec2 q = gl_PointCoord * 2.0 - 1.0;
  float a = 1.0 - dot(q, q);
  if (a <= 0.0) discard;
  gl_FragColor = vec4(tint.rgb, tint.a * strength * a);
}`
const lit = `
attribute float tone; attribute float left; attribute vec3 colours; attribute vec3 outward; uniform float painted;
uniform vec3 lower; uniform vec3 extent; uniform float low; uniform float high; uniform float mapLow;
uniform float mapHigh; uniform float known;
uniform sampler2D lut; uniform float grain; uniform float tall; uniform float flatten;
varying vec3 tint; varying vec3 faces; varying float sure;
const vec3 sun = vec3(-0.371, -0.557, 0.743);
void main() {
  vec3 place = lower + position * extent;
  // a shadow is the same grains, moved along the light onto the floor
  if (flatten > 0.5) place -= sun * ((place.z - lower.z - 0.02 * grain) / sun.z);
  vec4 p = modelViewMatrix * vec4(place, 1.0);
  gl_Position = projectionMatrix * p;
  float away = projectionMatrix[3][3] > 0.5 ? 1.0 : -p.z;
  gl_PointSize = left <= 0.0 ? 0.0 : clamp(grain * projectionMatrix[1][1] * tall / away, 1.0, 64.0);
  float value = low + tone * (high - low);
  float share = clamp((value - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
  tint = painted > 0.5 ? colours : texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb;
  sure = known * length(outward);
  faces = outward;
}`
const litFragment = `
varying vec3 tint; varying vec3 faces; varying float sure; uniform float dim; uniform float flatten;
const vec3 sun = vec3(-0.371, -0.557, 0.743);
void main() {
  vec2 q = gl_PointCoord * 2.0 - 1.0;
  float r = dot(q, q);
  if (r > 1.0) discard;
  if (flatten > 0.5) { gl_FragColor = vec4(0.01, 0.015, 0.03, 0.5 * dim); return; }
  // a little ball, turned toward where the heap's surface looks
  vec3 ball = vec3(q.x, -q.y, sqrt(1.0 - r)) * mat3(viewMatrix);
  vec3 n = normalize(mix(ball, faces, 0.72 * sure));
  float light = 0.16 + 0.22 * (0.5 + 0.5 * n.z) + 0.78 * max(dot(n, sun), 0.0);
  // what lies deep among others gets less of the sky
  light *= mix(0.62, 1.0, sure) * mix(1.0, 0.86, r);
  gl_FragColor = vec4(tint * tint * light, dim);
  #include <colorspace_fragment>
}`
const extentOf = (h: PointsHead) => h.upper.reduce((size, v, i) => size * Math.max(v - h.lower[i], 1e-3), 1)
/** As many are drawn in coarse pictures. */
const DRAFT = 20_000

export class Particles {
  private count = 0
  private coarse = false
  private order = new Uint32Array(0)
  readonly points: THREE.Points
  private readonly shadow: THREE.Points
  readonly object = new THREE.Group()
  private readonly rgba = new Uint8Array(256 * 4)
  private readonly lut: THREE.DataTexture
  private map = ''
  private part: PointsPart | null = null
  private readonly material: THREE.ShaderMaterial
  private readonly grains: THREE.ShaderMaterial
  private readonly cast: THREE.ShaderMaterial

  constructor() {
    this.lut = new THREE.DataTexture(this.rgba, 256, 1)
    this.material = new THREE.ShaderMaterial({
      vertexShader: vertex,
      fragmentShader: fragment,
      transparent: true,
      depthWrite: false,
      uniforms: {
        lut: { value: this.lut },
        size: { value: 2 },
        scale: { value: 9 },
        strength: { value: 0.5 },
        dim: { value: 1 },
        painted: { value: 0 },
        lower: { value: new THREE.Vector3() },
        extent: { value: new THREE.Vector3(1, 1, 1) },
        low: { value: 0 },
        high: { value: 1 },
        mapLow: { value: 0 },
        mapHigh: { value: 1 },
      },
    })
    const shared = this.material.uniforms
    const uniforms = {
      ...shared,
      known: { value: 0 },
      grain: { value: 0.02 },
      tall: { value: 400 },
      flatten: { value: 0 },
    }
    this.grains = new THREE.ShaderMaterial({ vertexShader: lit, fragmentShader: litFragment, uniforms })
    this.cast = new THREE.ShaderMaterial({
      vertexShader: lit,
      fragmentShader: litFragment,
      uniforms: { ...uniforms, flatten: { value: 1 } },
      transparent: true,
      depthWrite: false,
      // every pixel of the floor once, however many grains throw their shadow on it
      stencilWrite: true,
      stencilRef: 1,
      stencilFunc: THREE.NotEqualStencilFunc,
      stencilZPass: THREE.ReplaceStencilOp,
    })
    const geometry = new THREE.BufferGeometry()
    this.points = new THREE.Points(geometry, this.material)
    this.points.renderOrder = 4
    this.shadow = new THREE.Points(geometry, this.cast)
    this.shadow.renderOrder = 3
    const size = new THREE.Vector2()
    for (const points of [this.points, this.shadow]) {
      points.frustumCulled = false
      points.onBeforeRender = (renderer) => {
        uniforms.tall.value = renderer.getDrawingBufferSize(size).y / 2
      }
      this.object.add(points)
    }
  }
  /** Colours of a look: a named map, lightened where it would be lost on the dark view, or a mix of two colours. */
  private paint(look: FlowLook) {
    const key = look.map === 'mix' ? `mix${look.first}${look.last}` : look.map
    if (this.map === key) return
    this.map = key
    const table = look.map === 'mix' ? mixed(look.first, look.last) : maps[look.map]
    const pale = look.map === 'sequential' ? 0.2 : 0
    for (let i = 0; i < 256; i++) {
      const c = [0, 1, 2].map((k) => table[3 * i + k] * (1 - pale) + [184, 209, 242][k] * pale)
      this.rgba.set([c[0], c[1], c[2], 255], 4 * i)
    }
    this.lut.needsUpdate = true
  }
  show(part: PointsPart | null, look: FlowLook, range: [number, number], stale: boolean) {
    this.paint(look)
    this.object.visible = !!part?.head.count && look.shown
    if (!part || !this.object.visible) return
    const isLit = look.blend === 'lit'
    this.shadow.visible = isLit && look.shadow && !stale
    const frame = part.head
    const u = this.material.uniforms
    if (part !== this.part) {
      this.part = part
      const g = this.points.geometry
      g.setAttribute('position', new THREE.BufferAttribute(part.position, 3, true))
      g.setAttribute('tone', new THREE.BufferAttribute(part.tone, 1, true))
      g.setAttribute('left', new THREE.BufferAttribute(part.left, 1, true))
      if (part.colours) g.setAttribute('colours', new THREE.BufferAttribute(part.colours, 3, true))
      else g.deleteAttribute('colours')
      if (part.outward) g.setAttribute('outward', new THREE.BufferAttribute(part.outward, 3, true))
      else g.deleteAttribute('outward')
      this.grains.uniforms.known.value = part.outward ? 1 : 0
      Object.assign(u.painted, { value: part.colours ? 1 : 0 })
      this.count = frame.count
      this.shuffle(frame.count)
      this.draft(this.coarse)
    }
    u.lower.value.fromArray(frame.lower)
    u.extent.value.fromArray(frame.upper.map((v, i) => v - frame.lower[i]))
    Object.assign(u.low, { value: frame.low })
    Object.assign(u.high, { value: frame.high })
    Object.assign(u.mapLow, { value: range[0] })
    Object.assign(u.mapHigh, { value: range[1] > range[0] ? range[1] : range[0] + 1 })
    Object.assign(u.size, { value: look.size })
    Object.assign(u.dim, { value: stale ? 0.35 : 1 })
    // what does not say how far apart it stands is as large as its share of the box would be
    const apart = frame.spacing || Math.cbrt(extentOf(frame) / frame.count)
    this.grains.uniforms.grain.value = look.grain * apart
    this.points.material = isLit ? this.grains : this.material
    Object.assign(u.strength, { value: look.blend === 'opaque' ? 0.95 : 0.5 })
    this.material.blending = look.blend === 'opaque' ? THREE.NormalBlending : THREE.AdditiveBlending
  }
  /** While the view moves on a machine that draws slowly, a part of them, taken evenly. */
  draft(coarse: boolean) {
    this.coarse = coarse
    this.points.geometry.setDrawRange(0, coarse ? Math.min(this.count, DRAFT) : this.count)
  }
  /** Draw order: a fixed shuffle, so that any beginning of it is an even share of the particles. */
  private shuffle(n: number) {
    if (n <= DRAFT) {
      this.points.geometry.setIndex(null)
      return
    }
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
    for (const material of [this.material, this.grains, this.cast]) material.dispose()
    this.lut.dispose()
  }
}
