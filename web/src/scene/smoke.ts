/** Gas of one flow: marched through a 3D texture of density, light and temperature; or one channel in the colours of a
 * map. */
import * as THREE from 'three'
import type { FlowLook } from '../api/model'
import { maps, mixed } from '../lib/colour'
import { SMOKE } from '../forms/channels'
import type { VolumePart } from '../forms/frames'

const vertex = `
varying vec3 place;
void main() {
  place = position;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
}`
// The box is the unit cube; texels are density, light, temperature and one more channel.
const fragment = `
precision highp sampler3D;
uniform sampler3D texels; uniform sampler3D colours; uniform float coloured; uniform sampler2D lut;
uniform sampler2D depths; uniform sampler2D body;
uniform vec3 eye; uniform vec3 ahead; uniform float parallel; uniform vec3 size; uniform mat4 clip; uniform vec2 screen;
uniform float steps; uniform float absorb; uniform float densityTop; uniform float heatTop;
uniform float cold; uniform float hot;
uniform float glow; uniform vec3 tint; uniform float channelTop; uniform float mapLow; uniform float mapHigh;
uniform float plain; uniform float dim; uniform float channelLow; uniform float signed_;
varying vec3 place;
float unit(vec2 p) { return fract(52.9829189 * fract(dot(p, vec2(0.06711056, 0.00583715)))); }
void main() {
  vec3 way = parallel > 0.5 ? ahead : place - eye;
  vec3 from = parallel > 0.5 ? place - 10.0 * ahead : eye;
  vec3 inv = 1.0 / (way + vec3(equal(way, vec3(0.0))) * 1e-9);
  vec3 a = -from * inv, b = (1.0 - from) * inv;
  vec3 lo = min(a, b), hi = max(a, b);
  float near = max(max(max(lo.x, lo.y), lo.z), 0.0), far = min(min(hi.x, hi.y), hi.z);
  if (far <= near) discard;
  float each = (far - near) / steps;
  float length_ = each * length(way * size);
  // dithered by the pixel, so that few steps give grain instead of slices
  float t = near + each * unit(gl_FragCoord.xy);
  float seen = texture2D(depths, gl_FragCoord.xy / screen).r;
  vec3 sum = vec3(0.0), heat = vec3(0.0);
  float through = 1.0;
  for (int i = 0; i < 160; i++) {
    if (float(i) >= steps || through < 0.01) break;
    vec3 p = from + way * t;
    vec4 c = clip * vec4(p, 1.0);
    if (c.z / c.w * 0.5 + 0.5 > seen) break;
    vec4 texel = texture(texels, p);
    if (plain > 0.5) {
      float v = mix(channelLow, channelTop, texel.a);
      float share = clamp((v - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
      // of a signed channel what is far from zero is thick, to either side
      float taken = 1.0 - exp(-absorb * (signed_ > 0.5 ? abs(2.0 * share - 1.0) : share) * length_);
      sum += through * taken * texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb;
      through *= 1.0 - taken;
    } else {
      float d = texel.r * densityTop;
      float taken = 1.0 - exp(-absorb * d * length_);
      vec3 own = coloured > 0.5 ? tint * texture(colours, p).rgb : tint;
      vec3 lit = own * (0.16 + 0.95 * texel.g) + vec3(0.03, 0.05, 0.09);
      sum += through * taken * lit;
      float kelvin = texel.b * heatTop;
      float share = clamp((kelvin - cold) / max(hot - cold, 1.0), 0.0, 1.0);
      float fire = glow * share * share * length_ * 14.0;
      heat += through * fire * texture2D(body, vec2(share * 0.996 + 0.002, 0.5)).rgb;
      through *= 1.0 - taken;
    }
    t += each;
  }
  float alpha = 1.0 - through;
  sum += 1.0 - exp(-heat); // bright fire nears white, and is not cut off
  gl_FragColor = vec4(sum * dim, alpha * dim);
}`
const FULL = 96
const COARSE = 36

function lutOf(table: Uint8Array) {
  const rgba = new Uint8Array(256 * 4)
  for (let i = 0; i < 256; i++) rgba.set([table[3 * i], table[3 * i + 1], table[3 * i + 2], 255], 4 * i)
  const made = new THREE.DataTexture(rgba, 256, 1)
  made.needsUpdate = true
  return made
}
function textureOf(texels: Uint8Array<ArrayBuffer>, [nx, ny, nz]: readonly number[]) {
  const made = new THREE.Data3DTexture(texels, nx, ny, nz)
  made.format = THREE.RGBAFormat
  made.minFilter = made.magFilter = THREE.LinearFilter
  made.unpackAlignment = 1
  made.needsUpdate = true
  return made
}
const rgb = (hex: string) => new THREE.Vector3(...[1, 3, 5].map((i) => (parseInt(hex.slice(i, i + 2), 16) || 0) / 255))

export class Smoke {
  readonly mesh: THREE.Mesh<THREE.BoxGeometry, THREE.ShaderMaterial>
  /** The window that the gas was computed in. */
  readonly outline: THREE.LineSegments
  private part: VolumePart | null = null
  private map = ''
  private texture: THREE.Data3DTexture | null = null
  private hues: THREE.Data3DTexture | null = null

  constructor(private readonly depths: () => THREE.Texture | null) {
    const geometry = new THREE.BoxGeometry(1, 1, 1).translate(0.5, 0.5, 0.5)
    this.mesh = new THREE.Mesh(
      geometry,
      new THREE.ShaderMaterial({
        vertexShader: vertex,
        fragmentShader: fragment,
        transparent: true,
        depthWrite: false,
        depthTest: false,
        side: THREE.BackSide,
        blending: THREE.CustomBlending,
        blendSrc: THREE.OneFactor,
        blendDst: THREE.OneMinusSrcAlphaFactor,
        premultipliedAlpha: true,
        toneMapped: false,
        uniforms: {
          texels: { value: null },
          colours: { value: null },
          coloured: { value: 0 },
          lut: { value: lutOf(maps.sequential) },
          body: { value: lutOf(maps.heat) },
          depths: { value: null },
          eye: { value: new THREE.Vector3() },
          ahead: { value: new THREE.Vector3() },
          parallel: { value: 0 },
          size: { value: new THREE.Vector3(1, 1, 1) },
          clip: { value: new THREE.Matrix4() },
          screen: { value: new THREE.Vector2(1, 1) },
          steps: { value: FULL },
          absorb: { value: 12 },
          densityTop: { value: 1 },
          heatTop: { value: 1 },
          cold: { value: 200 },
          hot: { value: 1200 },
          glow: { value: 1 },
          tint: { value: new THREE.Vector3(0.8, 0.83, 0.87) },
          channelTop: { value: 1 },
          mapLow: { value: 0 },
          mapHigh: { value: 1 },
          plain: { value: 0 },
          dim: { value: 1 },
          channelLow: { value: 0 },
          signed_: { value: 0 },
        },
      }),
    )
    this.outline = new THREE.LineSegments(
      new THREE.EdgesGeometry(geometry),
      new THREE.LineBasicMaterial({ color: 0xe0b45c, transparent: true, opacity: 0.45 }),
    )
    this.outline.visible = false
    this.mesh.add(this.outline)
    this.mesh.frustumCulled = false
    this.mesh.renderOrder = 2.5
    this.mesh.matrixAutoUpdate = false
    this.mesh.onBeforeRender = (renderer, _scene, camera) => {
      const u = this.mesh.material.uniforms
      const back = this.mesh.matrixWorld.clone().invert()
      u.eye.value.setFromMatrixPosition(camera.matrixWorld).applyMatrix4(back)
      u.parallel.value = (camera as THREE.OrthographicCamera).isOrthographicCamera ? 1 : 0
      u.ahead.value.set(0, 0, -1).transformDirection(camera.matrixWorld).transformDirection(back)
      u.clip.value.multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).multiply(this.mesh.matrixWorld)
      u.depths.value = this.depths()
      renderer.getDrawingBufferSize(u.screen.value)
      this.mesh.material.uniformsNeedUpdate = true
    }
  }
  show(part: VolumePart | null, look: FlowLook, stale: boolean) {
    this.mesh.visible = !!part && look.shown
    if (!part || !this.mesh.visible) return
    const volume = part.head
    const u = this.mesh.material.uniforms
    if (part !== this.part) {
      this.part = part
      this.texture?.dispose()
      this.texture = textureOf(part.texels, volume.shape)
      u.texels.value = this.texture
      this.hues?.dispose()
      this.hues = part.colours ? textureOf(part.colours, volume.shape) : null
      u.colours.value = this.hues ?? this.texture
      Object.assign(u.coloured, { value: this.hues ? 1 : 0 })
      const axes = volume.axes,
        m = new THREE.Matrix4()
      const columns = [0, 1, 2].map((c) => new THREE.Vector3(axes[0][c], axes[1][c], axes[2][c]))
      const corner = columns[0]
        .clone()
        .multiplyScalar(volume.lower[0])
        .addScaledVector(columns[1], volume.lower[1])
        .addScaledVector(columns[2], volume.lower[2])
      m.makeBasis(
        columns[0].clone().multiplyScalar(volume.size[0]),
        columns[1].clone().multiplyScalar(volume.size[1]),
        columns[2].clone().multiplyScalar(volume.size[2]),
      ).setPosition(corner)
      this.mesh.matrix.copy(m)
      this.mesh.matrixWorldNeedsUpdate = true
      u.size.value.fromArray(volume.size)
      Object.assign(u.densityTop, { value: volume.tops.density })
      Object.assign(u.heatTop, { value: volume.tops.temperature })
      Object.assign(u.channelTop, { value: volume.tops.channel ?? 1 })
      Object.assign(u.channelLow, { value: volume.low })
    }
    const key = look.map === 'mix' ? `mix${look.first}${look.last}` : look.map
    if (this.map !== key) {
      this.map = key
      u.lut.value.dispose()
      u.lut.value = lutOf(look.map === 'mix' ? mixed(look.first, look.last) : maps[look.map])
    }
    const plain = look.colour !== SMOKE
    Object.assign(u.plain, { value: plain ? 1 : 0 })
    Object.assign(u.absorb, { value: look.absorb })
    Object.assign(u.glow, { value: look.glow })
    Object.assign(u.cold, { value: look.cold })
    Object.assign(u.hot, { value: look.hot })
    u.tint.value.copy(rgb(look.tint))
    const high = look.high ?? volume.tops.channel ?? 1,
      low = look.low ?? volume.low
    Object.assign(u.signed_, { value: plain && look.map === 'diverging' && low < 0 ? 1 : 0 })
    Object.assign(u.mapLow, { value: low })
    Object.assign(u.mapHigh, { value: high > low ? high : low + 1 })
    Object.assign(u.dim, { value: stale ? 0.45 : 1 })
  }
  /** Fewer steps while the view moves on a machine that draws slowly. */
  draft(coarse: boolean) {
    this.mesh.material.uniforms.steps.value = coarse ? COARSE : FULL
  }
  dispose() {
    this.texture?.dispose()
    this.hues?.dispose()
    this.mesh.geometry.dispose()
    this.outline.geometry.dispose()
    ;(this.outline.material as THREE.Material).dispose()
    this.mesh.material.dispose()
  }
}
