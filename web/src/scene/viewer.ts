/** The 3D view: camera, orbit, draw on demand. What is drawn comes from the layers beside this file. */
import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import type { LightLook, Vec3 } from '../api/model'
import { Developer } from './developing'
import { Ground } from './ground'
import { Lights, type Fire } from './light'
import { onlySolid } from './materials'
import { afterwards, callOff, underWay } from '../lib/rest'
import { keptSharpness } from '../lib/sharpness'

const HAZE = 192
/** What the view has to know of gas: how it darkens what the key lights, and what burns in it. */
export interface Gas {
  shade: THREE.Object3D
  fire: Fire | null
}

/** Pixels of the view for one of the page. Half of them, on wish, are a quarter of the work. */
const sharpness = () => Math.min(window.devicePixelRatio, 2) * keptSharpness()

export class Viewer {
  readonly scene = new THREE.Scene()
  private readonly perspective = new THREE.PerspectiveCamera(38, 1, 0.01, 2000)
  private readonly flat = new THREE.OrthographicCamera(-1, 1, 1, -1, 0.01, 2000)
  /** What is rendered with: the perspective or the parallel camera; both look from the same place. */
  camera: THREE.PerspectiveCamera | THREE.OrthographicCamera = this.perspective
  readonly renderer: THREE.WebGLRenderer
  readonly controls: OrbitControls
  readonly raycaster = new THREE.Raycaster()
  private queued = false
  private last = 0
  private rest = 0
  private isCoarse = false
  /** Whether the user has hold of the camera, or of anything. */
  private turning = false
  private holding = false
  /** Nears 1 while pictures take longer than a twentieth of a second; rendering in software is known to. */
  private slow = 0
  private readonly software: boolean
  drawn = 0

  private readonly lights: Lights
  private readonly developer: Developer
  private readonly ground = new Ground()
  /** Light that comes through gas toward the ground, seen from the key. */
  private readonly haze = new THREE.WebGLRenderTarget(HAZE, HAZE, { depthBuffer: false })
  private readonly hazes = new THREE.Scene()
  private readonly toHaze = new THREE.Matrix4()
  private changed = true
  private filming = false
  /** While a study opens no picture is made of an empty scene: each would hold up the first that says something. */
  private opening = afterwards(() => this.open(), 600)

  constructor(private readonly host: HTMLElement) {
    // edges are made smooth in the target that light is drawn into
    this.renderer = new THREE.WebGLRenderer({ antialias: false, alpha: false })
    this.renderer.debug.checkShaderErrors = import.meta.env.DEV // asking for the log waits for the compiler
    this.renderer.setPixelRatio(sharpness())
    this.renderer.setClearColor(0x000000, 0)
    const gl = this.renderer.getContext()
    const named = gl.getExtension('WEBGL_debug_renderer_info')?.UNMASKED_RENDERER_WEBGL ?? gl.RENDERER
    this.software = /swiftshader|llvmpipe|software|basic render/i.test(String(gl.getParameter(named)))
    this.lights = new Lights(this.renderer)
    this.developer = new Developer(this.renderer, keptSharpness() === 1)
    host.appendChild(this.renderer.domElement)
    for (const camera of [this.perspective, this.flat]) camera.up.set(0, 0, 1)
    this.camera.position.set(-3.2, -7.5, 3.4)
    this.controls = new OrbitControls(this.camera, this.renderer.domElement)
    this.controls.addEventListener('start', () => {
      this.turning = true
    })
    this.controls.addEventListener('end', () => {
      this.turning = false
      this.draw()
    })
    this.controls.addEventListener('change', () => this.draw())
    this.scene.add(this.lights.group, this.ground.object)
    this.under([-2, -2, 0], [2, 2, 3])
    window.addEventListener('pointerdown', this.hold, { capture: true })
    for (const end of ['pointerup', 'pointercancel']) window.addEventListener(end, this.release, { capture: true })
  }
  /** Light and tone as a study has them. */
  light(look: LightLook) {
    this.lights.set(look)
    this.developer.set(look)
    this.lights.unexpose(1 / this.developer.exposure)
    this.draw(true)
  }
  /** The exposure, in stops, that shows what is in the picture now; null if it is dark. */
  fittedExposure(): number | null {
    this.coarse(false)
    return this.developer.fitted(this.render())
  }
  resize() {
    const { clientWidth: w, clientHeight: h } = this.host
    if (!w || !h || this.filming) return
    this.renderer.setSize(w, h)
    this.perspective.aspect = w / h
    this.lens(this.distance)
    this.draw()
  }
  /** As many pixels of the screen as were chosen. */
  sharpen() {
    this.renderer.setPixelRatio(sharpness())
    this.developer.sharpen(keptSharpness() === 1)
    this.resize()
  }
  get parallel() {
    return this.camera === this.flat
  }
  /** How far the picture seems to be from what is looked at; zooming a parallel view changes its scale, not its
   * place. */
  private get distance() {
    return this.camera.position.distanceTo(this.controls.target) / this.flat.zoom
  }
  /** Set both cameras so that they show the same at a distance. */
  private lens(distance: number) {
    const half = distance * Math.tan((this.perspective.fov * Math.PI) / 360)
    Object.assign(this.flat, {
      top: half,
      bottom: -half,
      left: -half * this.perspective.aspect,
      right: half * this.perspective.aspect,
      zoom: 1,
      near: -40 * distance,
      far: 40 * distance,
    })
    Object.assign(this.perspective, { near: distance / 200, far: distance * 40 })
    const way = this.camera.position.clone().sub(this.controls.target).normalize()
    this.camera.position.copy(this.controls.target).addScaledVector(way, distance)
    this.perspective.updateProjectionMatrix()
    this.flat.updateProjectionMatrix()
  }
  /** Perspective or parallel, looking from the same side at the same size. */
  setParallel(on: boolean) {
    if (on === this.parallel) return
    const distance = this.distance
    const next = on ? this.flat : this.perspective
    next.position.copy(this.camera.position)
    next.quaternion.copy(this.camera.quaternion)
    this.camera = next
    this.controls.object = next
    this.lens(distance)
    this.controls.update()
    this.draw()
  }
  /** Draw in the next frame; `changed`: more than the camera did. While one picture follows the other on a machine
   * that is slow at it, they are coarser. */
  draw(changed = false) {
    this.changed ||= changed
    const now = performance.now()
    if (this.queued || this.opening || this.filming) return
    this.queued = true
    const gap = now - this.last
    callOff(this.rest)
    const end = underWay()
    requestAnimationFrame(() => {
      this.queued = false
      end()
      if (this.filming) return
      this.slow = 0.8 * this.slow + (gap < 200 && gap > 45 ? 0.2 : 0)
      this.coarse((this.software || this.slow > 0.5) && (this.turning || this.holding || this.hurried(gap)))
      this.render()
      requestAnimationFrame(() => {
        this.last = performance.now()
      }) // by then it is on the screen, or nearly
      this.drawn++
      this.host.dataset.drawn = String(this.drawn)
      if (this.isCoarse) this.refine()
    })
  }
  /** Whether a picture should be coarse though nothing is held: it is the first or follows another closely. Where fewer
   * pixels were chosen a full one costs hardly more than a coarse one and the full one after it. */
  private hurried(gap: number) {
    return keptSharpness() === 1 && (gap < 300 || !this.drawn)
  }
  /** There is something to be seen. */
  open() {
    if (!this.opening) return
    callOff(this.opening)
    this.opening = 0
    this.draw(true)
  }
  /** A full picture once nothing moves any more. */
  private refine() {
    callOff(this.rest)
    this.rest = afterwards(() => {
      if (this.holding) this.refine()
      else if (!this.turning) {
        this.last = 0
        this.draw()
      }
    }, 320)
  }
  private readonly hold = () => {
    this.holding = true
  }
  private readonly release = () => {
    this.holding = false
  }
  /** Told when pictures become coarser or full again. */
  onCoarse: ((on: boolean) => void) | null = null
  private coarse(on: boolean) {
    if (on === this.isCoarse) return
    this.isCoarse = on
    this.onCoarse?.(on)
  }
  /** Gas that is drawn: it needs to know what is solid, darkens the ground and lights what is near. */
  gas: () => Gas[] = () => []
  depths: THREE.DepthTexture | null = null
  private behind: THREE.WebGLRenderTarget | null = null
  private readonly flatMaterial = new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, colorWrite: false })
  private drawDepths(like: THREE.WebGLRenderTarget) {
    if (!this.behind || this.behind.width !== like.width || this.behind.height !== like.height) {
      this.behind?.dispose()
      this.depths = new THREE.DepthTexture(like.width, like.height, THREE.UnsignedIntType)
      this.behind = new THREE.WebGLRenderTarget(like.width, like.height, { depthTexture: this.depths })
    }
    const { mask } = this.camera.layers
    onlySolid(this.camera)
    this.scene.overrideMaterial = this.flatMaterial
    this.renderer.setRenderTarget(this.behind)
    this.renderer.clear()
    this.renderer.render(this.scene, this.camera)
    this.scene.overrideMaterial = null
    this.camera.layers.mask = mask
  }
  /** What depends on the things and not on where they are seen from: shadows, and fires as lights; whether another
   * picture is owed. */
  private drawShadows(gas: Gas[]): boolean {
    let casts = false
    this.scene.traverseVisible((o) => {
      casts ||= o.castShadow && o !== this.lights.group && !(o as THREE.Light).isLight
    })
    this.lights.burn(gas.flatMap((g) => g.fire ?? []))
    this.lights.stale()
    const owed = this.lights.share(casts)
    this.hazes.clear()
    if (!gas.length) {
      this.ground.shade(null, this.toHaze)
      return owed
    }
    for (const g of gas) this.hazes.add(g.shade)
    this.renderer.setRenderTarget(this.haze)
    this.renderer.setClearColor(0xffffff, 1)
    this.renderer.clear()
    this.renderer.render(this.hazes, this.lights.view)
    this.renderer.setClearColor(0x000000, 0)
    const { view } = this.lights
    this.toHaze
      .set(0.5, 0, 0, 0.5, 0, 0.5, 0, 0.5, 0, 0, 0.5, 0.5, 0, 0, 0, 1)
      .multiply(view.projectionMatrix)
      .multiply(view.matrixWorldInverse)
    this.ground.shade(this.haze.texture, this.toHaze)
    return owed
  }
  /** Groups that are only on the left (before) or the right (after) half, when the view is split. */
  split: { before: THREE.Object3D[]; after: THREE.Object3D[] } | null = null
  private render(): THREE.WebGLRenderTarget {
    const target = this.developer.target(this.isCoarse)
    const gas = this.gas()
    const owed = this.changed && this.drawShadows(gas)
    this.changed = false
    this.lights.shine() // another view may have drawn since
    if (gas.length) this.drawDepths(target)
    this.renderer.setRenderTarget(target)
    this.renderer.clear()
    this.drawInto(target)
    this.developer.develop(target, this.isCoarse)
    if (owed) this.draw(true) // the first picture makes the shadow map, and the next one shows it
    return target
  }
  private drawInto(target: THREE.WebGLRenderTarget) {
    const r = this.renderer
    const s = this.split
    if (!s) {
      r.render(this.scene, this.camera)
      return
    }
    const w = Math.round(target.width / 2)
    target.scissorTest = true
    for (const [half, on, off] of [
      [0, s.before, s.after],
      [1, s.after, s.before],
    ] as const) {
      const shown = on.map((g) => g.visible)
      for (const g of on) g.visible = true
      const hidden = off.map((g) => g.visible)
      for (const g of off) g.visible = false
      target.scissor.set(half * w, 0, target.width - w, target.height)
      r.setRenderTarget(target)
      r.render(this.scene, this.camera)
      on.forEach((g, i) => {
        g.visible = shown[i]
      })
      off.forEach((g, i) => {
        g.visible = hidden[i]
      })
    }
    target.scissorTest = false
    target.scissor.set(0, 0, target.width, target.height)
  }
  /** Look along a direction at what is looked at now. */
  turnTo(direction: Vec3) {
    const { distance } = this
    this.camera.position
      .copy(this.controls.target)
      .addScaledVector(new THREE.Vector3(...direction).normalize(), distance)
    this.lens(distance)
    this.controls.update()
    this.draw()
  }
  viewpoint(): { position: Vec3; target: Vec3; parallel: boolean } {
    const round = (v: THREE.Vector3) => v.toArray().map((x) => Number(x.toFixed(4))) as Vec3
    this.lens(this.distance)
    return { position: round(this.camera.position), target: round(this.controls.target), parallel: this.parallel }
  }
  goTo(v: { position: Vec3; target: Vec3; parallel?: boolean }) {
    this.setParallel(!!v.parallel)
    this.camera.position.set(...v.position)
    this.controls.target.set(...v.target)
    this.lens(this.camera.position.distanceTo(this.controls.target))
    this.controls.update()
    this.draw()
  }
  /** Where a point is on the screen, in pixels of the view. */
  project(p: Vec3): { x: number; y: number; behind: boolean } {
    const q = new THREE.Vector3(...p).project(this.camera)
    const { clientWidth: w, clientHeight: h } = this.host
    return { x: ((q.x + 1) / 2) * w, y: ((1 - q.y) / 2) * h, behind: q.z > 1 }
  }
  /** Look at a box so that it fills the picture. */
  frame(lower: Vec3, upper: Vec3, direction?: Vec3) {
    const middle = new THREE.Vector3(...lower).add(new THREE.Vector3(...upper)).multiplyScalar(0.5)
    const size = new THREE.Vector3(...upper).sub(new THREE.Vector3(...lower))
    const radius = 0.5 * size.length()
    const way = direction
      ? new THREE.Vector3(...direction).normalize()
      : this.camera.position.clone().sub(this.controls.target).normalize()
    // a picture that is higher than wide is framed by its width
    const narrow = Math.max(1, 1.05 / this.perspective.aspect)
    const distance = (radius / Math.sin((this.perspective.fov * Math.PI) / 360)) * 0.78 * narrow
    this.controls.target.copy(middle)
    this.camera.position.copy(middle).addScaledVector(way, distance)
    this.lens(distance)
    this.controls.update()
    this.under(lower, upper)
    this.draw(true)
  }
  /** Ground and shadows for a box. */
  private under(lower: Vec3, upper: Vec3) {
    const [low, high] = [new THREE.Vector3(...lower), new THREE.Vector3(...upper)]
    this.ground.put(low, high)
    low.z = Math.min(low.z, 0)
    this.lights.cover(low.clone().add(high).multiplyScalar(0.5), 0.72 * high.distanceTo(low))
  }
  ray(event: PointerEvent | MouseEvent): THREE.Raycaster {
    const r = this.renderer.domElement.getBoundingClientRect()
    this.raycaster.setFromCamera(
      new THREE.Vector2(((event.clientX - r.left) / r.width) * 2 - 1, 1 - ((event.clientY - r.top) / r.height) * 2),
      this.camera,
    )
    return this.raycaster
  }
  /** Pictures of a film have a size of their own, whatever the screen's; the view itself waits until `filmed`. */
  toFilm(width: number, height: number) {
    this.filming = true
    this.coarse(false)
    this.developer.sharpen(true)
    this.renderer.setPixelRatio(1)
    this.renderer.setSize(width, height, false)
    this.perspective.aspect = width / height
    this.lens(this.distance)
  }
  /** The next picture of a film: as high as the view, as wide as the film is. */
  film(): HTMLCanvasElement {
    const picture = document.createElement('canvas')
    Object.assign(picture, { width: this.renderer.domElement.width, height: this.renderer.domElement.height })
    this.changed = true
    this.render()
    picture.getContext('2d')!.drawImage(this.renderer.domElement, 0, 0)
    return picture
  }
  filmed() {
    this.filming = false
    this.sharpen()
  }
  picture(width = 640, height = 400): Promise<Blob | null> {
    this.coarse(false)
    this.render()
    const from = this.renderer.domElement
    const small = document.createElement('canvas')
    small.width = width
    small.height = height
    const c = small.getContext('2d')!
    const s = Math.max(width / from.width, height / from.height)
    c.drawImage(from, (width - from.width * s) / 2, (height - from.height * s) / 2, from.width * s, from.height * s)
    return new Promise((done) => small.toBlob(done, 'image/png'))
  }
  dispose() {
    callOff(this.rest)
    callOff(this.opening)
    window.removeEventListener('pointerdown', this.hold, { capture: true })
    for (const end of ['pointerup', 'pointercancel']) window.removeEventListener(end, this.release, { capture: true })
    this.controls.dispose()
    this.behind?.dispose()
    this.haze.dispose()
    this.lights.dispose()
    this.developer.dispose()
    this.ground.dispose()
    this.renderer.dispose()
    this.renderer.domElement.remove()
  }
}
