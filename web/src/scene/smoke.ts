/** Gas of one flow: marched through a 3D texture of density, light and temperature; or one channel in the colours of a
 * map. */
import * as THREE from 'three'
import type { FlowLook } from '../api/model'
import { blackBodyTable, COOLEST, HOTTEST } from '../lib/blackbody'
import { maps, mixed } from '../lib/colour'
import { SMOKE } from '../forms/channels'
import type { VolumePart } from '../forms/frames'
import { AIR, glowOf, POWER, STEEP } from './glow'
import { LIT, shared, type Fire } from './light'
import { seen } from './materials'

const vertex = `
varying vec3 place;
void main() {
  place = position;
  gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
}`
// The box is the unit cube; texels are density, light, temperature and one more channel.
const box = `
uniform vec3 eye; uniform vec3 ahead; uniform float parallel; uniform vec3 size;
varying vec3 place;
/** The way through the box in its own coordinates: from + way · t, t from x to y. */
vec2 through_(out vec3 from, out vec3 way) {
  way = parallel > 0.5 ? ahead : place - eye;
  from = parallel > 0.5 ? place - 10.0 * ahead : eye;
  vec3 inv = 1.0 / (way + vec3(equal(way, vec3(0.0))) * 1e-9);
  vec3 a = -from * inv, b = (1.0 - from) * inv;
  vec3 lo = min(a, b), hi = max(a, b);
  return vec2(max(max(max(lo.x, lo.y), lo.z), 0.0), min(min(hi.x, hi.y), hi.z));
}`
// Single scattering: what the key sends through smoke and past shapes is turned toward the eye by the phase function of
// Henyey and Greenstein (1941), told so that 1 is scattering to all sides alike; sky and fill come from everywhere.
const fragment = `
precision highp sampler3D;
uniform sampler3D texels; uniform sampler3D colours; uniform float coloured; uniform sampler2D lut;
uniform sampler3D glowing; uniform float glowTop;
uniform sampler2D depths; uniform float deep; uniform sampler2D body; uniform mat4 clip; uniform mat4 unclip;
uniform mat4 world; uniform vec2 screen; uniform vec3 sight;
uniform float steps; uniform float absorb; uniform float densityTop; uniform float heatTop;
uniform float cold; uniform float hot; uniform float warm; uniform float onward; uniform float inFlow;
uniform float glow; uniform vec3 tint; uniform float channelTop; uniform float mapLow; uniform float mapHigh;
uniform float plain; uniform float dim; uniform float channelLow; uniform float signed_;
${box}
${LIT}
float unit(vec2 p) { return fract(52.9829189 * fract(dot(p, vec2(0.06711056, 0.00583715)))); }
float phase(float cosine) {
  float g = onward;
  return (1.0 - g * g) / pow(1.0 + g * g - 2.0 * g * cosine, 1.5);
}
void main() {
  vec3 from, way;
  vec2 ends = through_(from, way);
  if (deep > 0.5) {
    // up to what is solid, exactly: steps are laid so that they end there
    float seen = texture2D(depths, gl_FragCoord.xy / screen).r;
    if (seen < 1.0) {
      vec4 at = unclip * vec4(vec3(gl_FragCoord.xy / screen, seen) * 2.0 - 1.0, 1.0);
      ends.y = min(ends.y, dot(at.xyz / at.w - from, way) / dot(way, way));
    }
  }
  if (ends.y <= ends.x) discard;
  float each = (ends.y - ends.x) / steps;
  float length_ = each * length(way * size);
  // dithered by the pixel, so that few steps give grain instead of slices
  float t = ends.x + each * unit(gl_FragCoord.xy);
  vec3 sum = vec3(0.0), heat = vec3(0.0);
  float through = 1.0;
  vec3 all = skyColour * 0.52 + lowColour * 0.5 + fillColour * 0.3;
  float turned = phase(dot(sight, -keyWay)) * inFlow;
  for (int i = 0; i < 160; i++) {
    if (float(i) >= steps || through < 0.003) break;
    vec3 p = from + way * t;
    vec4 texel = texture(texels, p);
    if (plain > 0.5) {
      float v = mix(channelLow, channelTop, texel.a);
      float share = clamp((v - mapLow) / (mapHigh - mapLow), 0.0, 1.0);
      // of a signed channel what is far from zero is thick, to either side
      float taken = 1.0 - exp(-absorb * (signed_ > 0.5 ? abs(2.0 * share - 1.0) : share) * length_);
      sum += through * taken * linear(texture2D(lut, vec2(share * 0.996 + 0.002, 0.5)).rgb) * unexposed;
      through *= 1.0 - taken;
    } else if (texel.r + texel.b > 0.0) {
      float taken = 1.0 - exp(-absorb * texel.r * densityTop * length_);
      float kelvin = texel.b * heatTop;
      float share = clamp((kelvin - cold) / max(hot - cold, 1.0), 0.0, 1.0);
      float fire = glow * pow(share, ${STEEP.toFixed(2)}) * length_ * ${POWER.toFixed(1)};
      float warmth = (kelvin + ${AIR.toFixed(1)}) * warm;
      vec3 burns = texture2D(body, vec2((warmth - ${COOLEST.toFixed(1)}) / ${(HOTTEST - COOLEST).toFixed(1)}, 0.5)).rgb;
      if (taken > 0.0) {
        float reaches = texel.g;
        if (shadowed > 0.5) reaches *= keyReaches((world * vec4(p, 1.0)).xyz);
        vec3 own = coloured > 0.5 ? tint * linear(texture(colours, p).rgb) : tint;
        vec3 near = texture(glowing, p).rgb;
        vec3 lit = 0.85 * keyColour * reaches * turned + all * (0.35 + 0.65 * texel.g) + glowTop * near * near;
        sum += through * taken * own * lit;
      }
      heat += through * fire * burns;
      through *= 1.0 - taken;
    }
    t += each;
  }
  sum += heat;
  float alpha = 1.0 - through;
  gl_FragColor = vec4(sum * dim, alpha * dim);
}`
/** What comes through toward the ground, seen from the key. */
const shade = `
precision highp sampler3D;
uniform sampler3D texels; uniform float absorb; uniform float densityTop; uniform float dim; uniform float plain;
${box}
void main() {
  vec3 from, way;
  vec2 ends = through_(from, way);
  if (ends.y <= ends.x || plain > 0.5) discard;
  float each = (ends.y - ends.x) / 28.0, sum = 0.0;
  for (int i = 0; i < 28; i++) sum += texture(texels, from + way * (ends.x + each * (float(i) + 0.5))).r;
  gl_FragColor = vec4(vec3(exp(-absorb * dim * densityTop * sum * each * length(way * size))), 1.0);
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
/** All bodies that glow, for every volume. */
const bodies = () => {
  const made = new THREE.DataTexture(blackBodyTable(), 256, 1, THREE.RGBAFormat, THREE.FloatType)
  made.needsUpdate = true
  return made
}
const NOTHING = textureOf(new Uint8Array(4), [1, 1, 1])

/** A direction of the scene in a box's own coordinates, as long as it is there: boxes stretch. */
const straight = (way: THREE.Vector3, back: THREE.Matrix4) => {
  const { elements: e } = back
  return new THREE.Vector3(
    e[0] * way.x + e[4] * way.y + e[8] * way.z,
    e[1] * way.x + e[5] * way.y + e[9] * way.z,
    e[2] * way.x + e[6] * way.y + e[10] * way.z,
  ).normalize()
}

export class Smoke {
  readonly mesh: THREE.Mesh<THREE.BoxGeometry, THREE.ShaderMaterial>
  /** The window that the gas was computed in. */
  readonly outline: THREE.LineSegments
  private part: VolumePart | null = null
  private map = ''
  private texture: THREE.Data3DTexture | null = null
  private hues: THREE.Data3DTexture | null = null

  /** What is seen from the key, for the shadow on the ground. */
  readonly shade: THREE.Mesh<THREE.BoxGeometry, THREE.ShaderMaterial>
  /** What burns in it, as one light for what stands around. */
  fire: Fire | null = null
  private glowing: THREE.Data3DTexture | null = null
  private burnt = ''

  constructor(private readonly depths: () => THREE.Texture | null) {
    const geometry = new THREE.BoxGeometry(1, 1, 1).translate(0.5, 0.5, 0.5)
    const way = {
      eye: { value: new THREE.Vector3() },
      ahead: { value: new THREE.Vector3() },
      parallel: { value: 0 },
    }
    const uniforms = {
      ...shared,
      ...way,
      texels: { value: null as THREE.Texture | null },
      colours: { value: null as THREE.Texture | null },
      glowing: { value: NOTHING as THREE.Texture },
      lut: { value: lutOf(maps.sequential) },
      body: { value: bodies() },
      depths: { value: null as THREE.Texture | null },
      size: { value: new THREE.Vector3(1, 1, 1) },
      clip: { value: new THREE.Matrix4() },
      unclip: { value: new THREE.Matrix4() },
      world: { value: new THREE.Matrix4() },
      sight: { value: new THREE.Vector3() },
      screen: { value: new THREE.Vector2(1, 1) },
      tint: { value: new THREE.Color(0.8, 0.83, 0.87) },
      ...Object.fromEntries(
        Object.entries({
          coloured: 0,
          glowTop: 0,
          deep: 0,
          steps: FULL,
          absorb: 12,
          densityTop: 1,
          heatTop: 1,
          cold: 200,
          hot: 1200,
          warm: 1,
          onward: 0,
          inFlow: 1,
          glow: 1,
          channelTop: 1,
          mapLow: 0,
          mapHigh: 1,
          plain: 0,
          dim: 1,
          channelLow: 0,
          signed_: 0,
        }).map(([k, value]) => [k, { value }]),
      ),
    }
    this.mesh = new THREE.Mesh(
      geometry,
      seen(
        new THREE.ShaderMaterial({
          vertexShader: vertex,
          fragmentShader: fragment,
          transparent: true,
          depthWrite: false,
          depthTest: false,
          side: THREE.BackSide,
          toneMapped: false,
          uniforms,
        }),
        { premultiplied: true },
      ),
    )
    this.shade = new THREE.Mesh(
      geometry,
      new THREE.ShaderMaterial({
        vertexShader: vertex,
        fragmentShader: shade,
        transparent: true,
        depthTest: false,
        depthWrite: false,
        side: THREE.BackSide,
        blending: THREE.CustomBlending, // each lets through a share of what the others did
        blendSrc: THREE.ZeroFactor,
        blendDst: THREE.SrcColorFactor,
        uniforms: {
          ...Object.fromEntries(
            ['texels', 'size', 'absorb', 'densityTop', 'dim', 'plain'].map((k) => [
              k,
              (uniforms as Record<string, THREE.IUniform>)[k],
            ]),
          ),
          ...Object.fromEntries(Object.entries(way).map(([k, u]) => [k, { value: k === 'parallel' ? 1 : u.value }])),
          ahead: { value: new THREE.Vector3() },
        },
      }),
    )
    this.outline = new THREE.LineSegments(
      new THREE.EdgesGeometry(geometry),
      new THREE.LineBasicMaterial({ color: 0xe0b45c, transparent: true, opacity: 0.45 }),
    )
    this.outline.visible = false
    this.mesh.add(this.outline)
    for (const m of [this.mesh, this.shade]) {
      m.frustumCulled = false
      m.matrixAutoUpdate = false
    }
    this.mesh.renderOrder = 2.5
    this.mesh.onBeforeRender = (renderer, _scene, camera) => {
      const u = this.mesh.material.uniforms
      const back = this.mesh.matrixWorld.clone().invert()
      u.eye.value.setFromMatrixPosition(camera.matrixWorld).applyMatrix4(back)
      u.parallel.value = (camera as THREE.OrthographicCamera).isOrthographicCamera ? 1 : 0
      const ahead = new THREE.Vector3(0, 0, -1).transformDirection(camera.matrixWorld)
      u.ahead.value.copy(straight(ahead, back))
      // toward the middle of the box: one angle for all of it is close enough for a broad phase function
      u.sight.value.copy(ahead)
      if (!u.parallel.value) {
        const middle = new THREE.Vector3(0.5, 0.5, 0.5).applyMatrix4(this.mesh.matrixWorld)
        u.sight.value.copy(middle.sub(new THREE.Vector3().setFromMatrixPosition(camera.matrixWorld)).normalize())
      }
      u.clip.value.multiplyMatrices(camera.projectionMatrix, camera.matrixWorldInverse).multiply(this.mesh.matrixWorld)
      u.unclip.value.copy(u.clip.value).invert()
      u.world.value.copy(this.mesh.matrixWorld)
      u.depths.value = this.depths()
      u.deep.value = u.depths.value ? 1 : 0
      const target = renderer.getRenderTarget()
      if (target) u.screen.value.set(target.width, target.height)
      else renderer.getDrawingBufferSize(u.screen.value)
      this.mesh.material.uniformsNeedUpdate = true
    }
    this.shade.onBeforeRender = (_renderer, _scene, camera) => {
      const ahead = new THREE.Vector3(0, 0, -1).transformDirection(camera.matrixWorld)
      this.shade.material.uniforms.ahead.value.copy(straight(ahead, this.mesh.matrix.clone().invert()))
      this.shade.material.uniformsNeedUpdate = true
    }
  }
  show(part: VolumePart | null, look: FlowLook, stale: boolean) {
    this.mesh.visible = this.shade.visible = !!part && look.shown
    if (!part || !this.mesh.visible) {
      this.fire = null
      return
    }
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
      for (const o of [this.mesh, this.shade]) {
        o.matrix.copy(m)
        o.matrixWorldNeedsUpdate = true
      }
      this.burnt = ''
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
    Object.assign(u.warm, { value: look.warm })
    Object.assign(u.onward, { value: look.onward })
    ;(u.tint.value as THREE.Color).set(look.tint)
    this.burn(part, look, plain)
    const high = look.high ?? volume.tops.channel ?? 1,
      low = look.low ?? volume.low
    Object.assign(u.signed_, { value: plain && look.map === 'diverging' && low < 0 ? 1 : 0 })
    Object.assign(u.mapLow, { value: low })
    Object.assign(u.mapHigh, { value: high > low ? high : low + 1 })
    Object.assign(u.dim, { value: stale ? 0.45 : 1 })
  }
  /** How the fire in it lights the rest of it, and what is around. */
  private burn(part: VolumePart, look: FlowLook, plain: boolean) {
    const key = plain ? 'none' : JSON.stringify([look.glow, look.cold, look.hot, look.warm])
    if (key === this.burnt) return
    this.burnt = key
    const glow = plain ? null : glowOf(part, look)
    this.glowing?.dispose()
    this.glowing = glow ? textureOf(glow.texels, glow.shape) : null
    const u = this.mesh.material.uniforms
    u.glowing.value = this.glowing ?? NOTHING
    u.glowTop.value = glow?.top ?? 0
    this.fire = glow && {
      place: new THREE.Vector3(...glow.middle).applyMatrix4(this.mesh.matrix),
      size: Math.max(0.1 * part.head.voxel_size, glow.spread * Math.max(...part.head.size)),
      colour: new THREE.Color(...glow.power).multiplyScalar(1 / (4 * Math.PI)),
    }
  }
  /** Fewer steps while the view moves on a machine that draws slowly. */
  draft(coarse: boolean) {
    this.mesh.material.uniforms.steps.value = coarse ? COARSE : FULL
  }
  dispose() {
    this.texture?.dispose()
    this.hues?.dispose()
    this.glowing?.dispose()
    this.shade.material.dispose()
    this.mesh.geometry.dispose()
    this.outline.geometry.dispose()
    ;(this.outline.material as THREE.Material).dispose()
    this.mesh.material.dispose()
  }
}
