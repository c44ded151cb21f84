/** Particles of one flow as points: quantised buffers as the server sends them, placed and coloured on the GPU. */
import * as THREE from 'three'
import { maps, mixed } from '../lib/colour'
import type { PointsPart } from '../forms/frames'
import type { FlowLook, PointsHead } from '../api/model'
import { LIT, shared } from './light'
import { seen } from './materials'

const vertex = `
attribute float tone; attribute float left; attribute vec3 colours; uniform float painted;
uniform vec3 lower; uniform vec3 extent; uniform float low; uniform float high; uniform float mapLow;
uniform float mapHigh;
uniform sampler2D lut; uniform float size; uniform float scale; uniform float dim;
uniform float from; uniform float foamed;
varying vec4 tint; varying float far;
${LIT}
void main() {
  vec4 p = modelViewMatrix * vec4(lower + position * extent, 1.0);
  gl_Position = projectionMatrix * p;
  // in a parallel view all points are as far as what is looked at: half its height over the tangent of half the lens
  float away = projectionMatrix[3][3] > 0.5 ? 1.0 / (projectionMatrix[1][1] * 0.3443) : -p.z;
  gl_PointSize = clamp(size * scale / away, 1.0, 14.0);
  float value = low + tone * (high - low);
  float share = clamp((value - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
  vec3 chosen = painted > 0.5 ? colours : texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb;
  tint = vec4(linear(chosen), min(1.0, left * 3.0) * dim);
  if (foamed > 0.5) {
    // the fastest of a liquid, white where the light is
    if (value < from) gl_PointSize = 0.0;
    tint = vec4(vec3(0.9, 0.95, 1.0) * lightOn(lower + position * extent, vec3(0.0, 0.0, 1.0), 1.0),
      dim * smoothstep(from, from * 1.5, value));
  }
  far = away;
}`
const fragment = `
varying vec4 tint; varying float far; uniform float strength; uniform float fogged;
void main() {
  vec2 q = gl_PointCoord * 2.0 - 1.0;
  float a = 1.0 - dot(q, q);
  if (a <= 0.0) discard;
  gl_FragColor = vec4(tint.rgb, tint.a * strength * a * exp(-fogged * far));
  #include <colorspace_fragment>
}`
const lit = `
attribute float tone; attribute float left; attribute vec3 colours; attribute vec3 outward; uniform float painted;
uniform vec3 lower; uniform vec3 extent; uniform float low; uniform float high; uniform float mapLow;
uniform float mapHigh; uniform float known;
uniform sampler2D lut; uniform float grain; uniform float tall;
varying vec3 tint; varying vec3 faces; varying float sure; varying vec3 stands; varying float far;
void main() {
  vec3 place = lower + position * extent;
  stands = place;
  vec4 p = modelViewMatrix * vec4(place, 1.0);
  gl_Position = projectionMatrix * p;
  float away = projectionMatrix[3][3] > 0.5 ? 1.0 : -p.z;
  gl_PointSize = left <= 0.0 ? 0.0 : clamp(grain * projectionMatrix[1][1] * tall / away, 1.0, 64.0);
  float value = low + tone * (high - low);
  float share = clamp((value - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
  tint = painted > 0.5 ? colours : texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb;
  sure = known * length(outward);
  faces = outward;
  far = away;
}`
const litFragment = `
varying vec3 tint; varying vec3 faces; varying float sure; varying vec3 stands; varying float far; uniform float dim;
uniform float grain;
${LIT}
void main() {
  vec2 q = gl_PointCoord * 2.0 - 1.0;
  float r = dot(q, q);
  if (r > 1.0) discard;
  // a little ball, turned toward where the heap's surface looks
  vec3 ball = vec3(q.x, -q.y, sqrt(1.0 - r)) * mat3(viewMatrix);
  vec3 n = normalize(mix(ball, faces, 0.72 * sure));
  vec3 light = lightOn(stands, n, keyReaches(stands + keyWay * grain));
  // what lies deep among others gets less of the sky
  light *= mix(0.62, 1.0, sure) * mix(1.0, 0.86, r);
  gl_FragColor = vec4(inFog(linear(tint) * light, far), dim);
  #include <colorspace_fragment>
}`
/** In the shadow map: a disc that hides. */
const castFragment = `
void main() {
  vec2 q = gl_PointCoord * 2.0 - 1.0;
  if (dot(q, q) > 1.0) discard;
  gl_FragColor = vec4(1.0);
}`
const extentOf = (h: PointsHead) => h.upper.reduce((size, v, i) => size * Math.max(v - h.lower[i], 1e-3), 1)
/** As many are drawn in coarse pictures. */
const DRAFT = 20_000

export class Particles {
  private count = 0
  private coarse = false
  private order = new Uint32Array(0)
  readonly points: THREE.Points
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
        ...shared,
        from: { value: 0 },
        foamed: { value: 0 },
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
    const uniforms = {
      ...this.material.uniforms,
      known: { value: 0 },
      grain: { value: 0.02 },
      tall: { value: 400 },
    }
    this.grains = seen(new THREE.ShaderMaterial({ vertexShader: lit, fragmentShader: litFragment, uniforms }))
    this.cast = new THREE.ShaderMaterial({
      vertexShader: lit,
      fragmentShader: castFragment,
      uniforms: { ...uniforms, tall: { value: 512 } },
    })
    this.points = new THREE.Points(new THREE.BufferGeometry(), this.material)
    this.points.renderOrder = 4
    this.points.frustumCulled = false
    this.points.customDepthMaterial = this.cast
    const size = new THREE.Vector2()
    this.points.onBeforeRender = (renderer) => {
      const target = renderer.getRenderTarget()
      uniforms.tall.value = (target ? target.height : renderer.getDrawingBufferSize(size).y) / 2
    }
    this.object.add(this.points)
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
  /** `foam`: speed from which on points are drawn, as foam on the surface that the rest of them makes. */
  show(part: PointsPart | null, look: FlowLook, range: [number, number], stale: boolean, foam: number | null = null) {
    this.paint(look)
    this.object.visible = !!part?.head.count && look.shown
    if (!part || !this.object.visible) return
    const isLit = look.blend === 'lit'
    this.points.castShadow = isLit && look.shadow && !stale
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
    const adds = look.blend === 'additive'
    Object.assign(u.strength, { value: adds ? 0.5 : 0.95 })
    Object.assign(u.foamed, { value: foam === null ? 0 : 1 })
    Object.assign(u.from, { value: foam ?? 0 })
    if (adds || foam !== null) seen(this.material, { adds: adds && foam === null })
    else this.material.blending = THREE.NormalBlending // its colours are those of the legend
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
