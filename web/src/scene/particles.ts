/** Particles of one flow as points: quantised buffers as the server sends them, placed and coloured on the GPU. */
import * as THREE from 'three'
import { maps, mixed } from '../lib/colour'
import type { PointsPart } from '../forms/frames'
import type { FlowLook } from '../api/model'

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
  private part: PointsPart | null = null
  private readonly material: THREE.ShaderMaterial

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
    this.points = new THREE.Points(new THREE.BufferGeometry(), this.material)
    this.points.frustumCulled = false
    this.points.renderOrder = 4
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
    this.points.visible = !!part?.head.count && look.shown
    if (!part || !this.points.visible) return
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
    this.material.dispose()
    this.lut.dispose()
  }
}
