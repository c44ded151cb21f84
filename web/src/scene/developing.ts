/** From light to picture: what is drawn in linear light of any strength is given an exposure, a tone curve that keeps
 * colours, and a little bloom. What shows data writes how much of it covers a pixel into alpha, and stays as it is. */
import * as THREE from 'three'
import shown from '../api/shown.json'
import type { LightLook } from '../api/model'
import { covering } from './materials'

const vertex = `
varying vec2 at;
void main() { at = position.xy * 0.5 + 0.5; gl_Position = vec4(position.xy, 0.0, 1.0); }`
/** The curve is straight up to a half and then bends toward 1, which it never reaches; applied to the strongest of the
 * three it keeps the colour, of each by itself it pales toward white: a little of that looks like film. */
export const CURVE = `
float bent(float p) { float u = max(p - 0.5, 0.0) * 2.0; return min(p, 0.5) + 0.5 * u / (1.0 + u); }
vec3 toned(vec3 c) {
  float peak = max(max(c.r, c.g), max(c.b, 1e-6));
  return mix(c * (bent(peak) / peak), vec3(bent(c.r), bent(c.g), bent(c.b)), ${shown.curve.pale.toFixed(3)});
}`
const last = `
varying vec2 at;
uniform sampler2D seen; uniform sampler2D glare; uniform float exposure; uniform float bloom; uniform float film;
uniform float contrast; uniform float edges; uniform vec2 shape;
${CURVE}
void main() {
  vec4 c = texture2D(seen, at);
  vec2 off = (at - 0.5) * shape;
  float fall = 1.0 + edges * dot(off, off);
  vec3 light = c.rgb * exposure / (fall * fall);
  if (bloom > 0.0) light += bloom * exposure * texture2D(glare, at).rgb;
  // about a middle grey, by the strongest of the three: hues stay
  light *= pow(max(max(light.r, light.g), max(light.b, 1e-6)) / 0.18, contrast - 1.0);
  vec3 developed = film > 0.5 ? toned(light) : light;
  gl_FragColor = vec4(mix(developed, c.rgb, clamp(c.a, 0.0, 1.0)), 1.0);
  #include <colorspace_fragment>
}`
const { glare } = shown
/** Weights of the blur, from its middle outward. */
const falls = Array.from({ length: glare.reach + 1 }, (_, n) => Math.exp(-glare.fall * n * n))
const whole = falls.reduce((sum, w, n) => sum + (n ? 2 : 1) * w, 0)
/** Light above what the curve leaves straight, at a quarter of the size. */
const bright = `
varying vec2 at; uniform sampler2D seen; uniform float exposure; uniform vec2 texel;
void main() {
  vec3 sum = vec3(0.0);
  for (int i = 0; i < 4; i++) {
    vec4 c = texture2D(seen, at + texel * (vec2(float(i & 1), float(i >> 1)) * 2.0 - 1.0));
    float peak = max(max(c.r, c.g), c.b) * exposure;
    sum += c.rgb * min(1.0, ${glare.most.toFixed(1)} / max(peak, 1.0)) * (1.0 - clamp(c.a, 0.0, 1.0))
      * smoothstep(${glare.least.toFixed(2)}, ${glare.full.toFixed(2)}, peak);
  }
  gl_FragColor = vec4(0.25 * sum, 1.0);
}`
const blur = `
varying vec2 at; uniform sampler2D seen; uniform vec2 texel;
void main() {
  vec3 sum = ${(1 / whole).toFixed(6)} * texture2D(seen, at).rgb;
  for (int i = 1; i < ${glare.reach + 1}; i++) {
    float w = ${(1 / whole).toFixed(6)} * exp(-${glare.fall.toFixed(3)} * float(i * i));
    sum += w * (texture2D(seen, at + texel * float(i)).rgb + texture2D(seen, at - texel * float(i)).rgb);
  }
  gl_FragColor = vec4(sum, 1.0);
}`
/** Light alone, for the exposure to be fitted to. */
const bare = `
varying vec2 at; uniform sampler2D seen;
void main() { vec4 c = texture2D(seen, at); gl_FragColor = vec4(c.rgb, clamp(c.a, 0.0, 1.0)); }`

function pass(fragmentShader: string, uniforms: Record<string, unknown>) {
  return new THREE.ShaderMaterial({
    vertexShader: vertex,
    fragmentShader,
    depthTest: false,
    depthWrite: false,
    toneMapped: false,
    uniforms: Object.fromEntries(Object.entries(uniforms).map(([k, value]) => [k, { value }])),
  })
}
const half = (samples: number, depth = true) =>
  new THREE.WebGLRenderTarget(1, 1, { type: THREE.HalfFloatType, samples, depthBuffer: depth })

/** How wide and high coarse pictures are, as a share of full ones. */
const COARSE = 0.6
/** Samples of a pixel along edges. */
const SMOOTH = 4

export class Developer {
  /** Full pictures have smooth edges where all pixels are drawn; the others are quick. */
  private readonly fine: THREE.WebGLRenderTarget
  private readonly rough = half(0)
  private readonly glare = [half(0, false), half(0, false)]
  private readonly triangle = new THREE.Mesh(covering())
  private readonly camera = new THREE.OrthographicCamera()
  private readonly last = pass(last, {
    ...{ seen: null, glare: null, exposure: 1, bloom: 0, film: 1, contrast: 1, edges: 0 },
    shape: new THREE.Vector2(1, 1),
  })
  private readonly bright = pass(bright, { seen: null, exposure: 1, texel: new THREE.Vector2() })
  private readonly blur = pass(blur, { seen: null, texel: new THREE.Vector2() })
  private readonly bare = pass(bare, { seen: null })
  private readonly size = new THREE.Vector2()
  exposure = 1
  private bloom = 0

  constructor(
    private readonly renderer: THREE.WebGLRenderer,
    smooth: boolean,
  ) {
    this.triangle.frustumCulled = false
    this.fine = half(smooth ? SMOOTH : 0)
  }
  /** Smooth edges take four times the work of software, and shaders once more for it. */
  sharpen(smooth: boolean) {
    const samples = smooth ? SMOOTH : 0
    if (samples === this.fine.samples) return
    this.fine.dispose()
    this.fine.samples = samples
  }
  set(look: LightLook) {
    this.exposure = 2 ** look.exposure
    this.bloom = look.bloom
    this.last.uniforms.contrast.value = look.contrast
    this.last.uniforms.edges.value = look.edges
    this.last.uniforms.film.value = look.curve === 'film' ? 1 : 0
  }
  /** Where a picture is drawn to: as large as the canvas, which keeps its size, or a good half of that. */
  target(coarse: boolean): THREE.WebGLRenderTarget {
    const made = coarse ? this.rough : this.fine
    this.renderer.getDrawingBufferSize(this.size)
    const share = coarse ? COARSE : 1
    made.setSize(Math.ceil(share * this.size.x), Math.ceil(share * this.size.y))
    return made
  }
  private run(material: THREE.ShaderMaterial, to: THREE.WebGLRenderTarget | null) {
    this.triangle.material = material
    this.renderer.setRenderTarget(to)
    this.renderer.render(this.triangle, this.camera)
  }
  develop(from: THREE.WebGLRenderTarget, coarse: boolean) {
    const u = this.last.uniforms
    u.seen.value = from.texture
    u.exposure.value = this.exposure
    // 1 in the corners, whatever the picture's shape
    u.shape.value.set(from.width, from.height).multiplyScalar(2 / Math.hypot(from.width, from.height))
    u.bloom.value = coarse ? 0 : this.bloom
    if (u.bloom.value > 0) this.spread(from)
    u.glare.value = this.glare[0].texture
    this.run(this.last, null)
  }
  private spread(from: THREE.WebGLRenderTarget) {
    const [a, b] = this.glare
    const [w, h] = [from.width, from.height].map((n) => Math.max(1, Math.ceil(n / 4)))
    for (const t of this.glare) t.setSize(w, h)
    this.bright.uniforms.seen.value = from.texture
    this.bright.uniforms.exposure.value = this.exposure
    this.bright.uniforms.texel.value.set(1 / from.width, 1 / from.height)
    this.run(this.bright, a)
    for (const [to, x, y] of [
      [b, 1 / w, 0],
      [a, 0, 1 / h],
    ] as const) {
      this.blur.uniforms.seen.value = to === b ? a.texture : b.texture
      this.blur.uniforms.texel.value.set(x, y)
      this.run(this.blur, to)
    }
  }
  /** The exposure (in stops) that lets all but the brightest fiftieth of the light stay where the curve still tells
   * it apart; null if nothing is bright enough to judge. */
  fitted(from: THREE.WebGLRenderTarget): number | null {
    const [w, h] = [96, 54]
    const small = new THREE.WebGLRenderTarget(w, h, { type: THREE.FloatType, depthBuffer: false })
    this.bare.uniforms.seen.value = from.texture
    this.run(this.bare, small)
    const read = new Float32Array(4 * w * h)
    this.renderer.readRenderTargetPixels(small, 0, 0, w, h, read)
    this.renderer.setRenderTarget(null)
    small.dispose()
    const peaks: number[] = []
    for (let i = 0; i < read.length; i += 4) {
      const peak = Math.max(read[i], read[i + 1], read[i + 2])
      if (read[i + 3] < 0.5 && peak > 0.06) peaks.push(peak) // the dark of the view is no light to expose for
    }
    if (peaks.length < 12) return null
    peaks.sort((a, b) => a - b)
    const top = peaks[Math.floor(0.98 * peaks.length)]
    return Math.max(-8, Math.min(8, Math.round(10 * Math.log2(0.9 / top)) / 10))
  }
  dispose() {
    for (const t of [this.fine, this.rough, ...this.glare]) t.dispose()
    for (const m of [this.last, this.bright, this.blur, this.bare]) m.dispose()
    this.triangle.geometry.dispose()
  }
}
