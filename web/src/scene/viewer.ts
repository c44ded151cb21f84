/** The 3D view: camera, orbit, draw on demand. What is drawn comes from the layers beside this file. */
import * as THREE from 'three'
import { OrbitControls } from 'three/examples/jsm/controls/OrbitControls.js'
import type { Vec3 } from '../api/model'

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
  /** Whether the user has hold of the camera. */
  private turning = false
  /** Nears 1 while pictures take longer than a twentieth of a second; rendering in software is known to. */
  private slow = 0
  private readonly software: boolean
  private grid: THREE.GridHelper | null = null
  drawn = 0

  constructor(private readonly host: HTMLElement) {
    this.renderer = new THREE.WebGLRenderer({ antialias: true, alpha: true, stencil: true })
    this.renderer.debug.checkShaderErrors = import.meta.env.DEV // asking for the log waits for the compiler
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2))
    this.renderer.setClearColor(0x0f1b2d, 0)
    const gl = this.renderer.getContext()
    const named = gl.getExtension('WEBGL_debug_renderer_info')?.UNMASKED_RENDERER_WEBGL ?? gl.RENDERER
    this.software = /swiftshader|llvmpipe|software|basic render/i.test(String(gl.getParameter(named)))
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
    this.scene.add(new THREE.HemisphereLight(0xe8eefc, 0x2a3350, 1.1))
    const sun = new THREE.DirectionalLight(0xfff2d8, 2.1)
    sun.position.set(-4, -6, 8)
    this.scene.add(sun)
  }
  resize() {
    const { clientWidth: w, clientHeight: h } = this.host
    if (!w || !h) return
    this.renderer.setSize(w, h)
    this.perspective.aspect = w / h
    this.lens(this.distance)
    this.draw()
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
  /** Draw in the next frame. While one picture follows the other on a machine that is slow at it, they are coarser. */
  draw() {
    const now = performance.now()
    if (this.queued) return
    this.queued = true
    const gap = now - this.last
    clearTimeout(this.rest)
    requestAnimationFrame(() => {
      this.queued = false
      this.slow = 0.8 * this.slow + (gap < 200 && gap > 45 ? 0.2 : 0)
      this.coarse((gap < 300 || this.turning) && (this.software || this.slow > 0.5))
      this.render()
      requestAnimationFrame(() => {
        this.last = performance.now()
      }) // by then it is on the screen, or nearly
      this.drawn++
      this.host.dataset.drawn = String(this.drawn)
      if (this.isCoarse)
        this.rest = window.setTimeout(() => {
          if (!this.turning) {
            this.last = 0
            this.draw()
          }
        }, 320)
    })
  }
  /** Told when pictures become coarser or full again. */
  onCoarse: ((on: boolean) => void) | null = null
  private coarse(on: boolean) {
    if (on === this.isCoarse) return
    this.isCoarse = on
    this.onCoarse?.(on)
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2) * (on ? 0.6 : 1))
  }
  /** What hides smoke behind it, or null if nothing needs to know; its distance is drawn into `depths` before each
   * picture. */
  solid: (() => THREE.Object3D[] | null) | null = null
  depths: THREE.DepthTexture | null = null
  private target: THREE.WebGLRenderTarget | null = null
  private readonly flatMaterial = new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, colorWrite: false })
  private drawDepths() {
    const solid = this.solid?.()
    if (!solid) return
    const size = this.renderer.getDrawingBufferSize(new THREE.Vector2()).multiplyScalar(0.5).ceil()
    if (!this.target || this.target.width !== size.x || this.target.height !== size.y) {
      this.target?.dispose()
      this.depths = new THREE.DepthTexture(size.x, size.y)
      this.target = new THREE.WebGLRenderTarget(size.x, size.y, { depthTexture: this.depths })
    }
    const r = this.renderer
    const shown = this.scene.children.map((c) => c.visible)
    for (const c of this.scene.children) c.visible = c.visible && solid.includes(c)
    this.scene.overrideMaterial = this.flatMaterial
    r.setRenderTarget(this.target)
    r.clear()
    r.render(this.scene, this.camera)
    r.setRenderTarget(null)
    this.scene.overrideMaterial = null
    this.scene.children.forEach((c, i) => {
      c.visible = shown[i]
    })
  }
  /** Groups that are only on the left (before) or the right (after) half, when the view is split. */
  split: { before: THREE.Object3D[]; after: THREE.Object3D[] } | null = null
  private render() {
    const r = this.renderer
    this.drawDepths()
    const s = this.split
    if (!s) {
      r.setScissorTest(false)
      r.render(this.scene, this.camera)
      return
    }
    const { clientWidth: w, clientHeight: h } = this.host
    r.setScissorTest(true)
    for (const [half, on, off] of [
      [0, s.before, s.after],
      [1, s.after, s.before],
    ] as const) {
      const shown = on.map((g) => g.visible)
      for (const g of on) g.visible = true
      const hidden = off.map((g) => g.visible)
      for (const g of off) g.visible = false
      r.setScissor((half * w) / 2, 0, w / 2, h)
      r.render(this.scene, this.camera)
      on.forEach((g, i) => {
        g.visible = shown[i]
      })
      off.forEach((g, i) => {
        g.visible = hidden[i]
      })
    }
    r.setScissorTest(false)
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
    this.ground(lower, upper)
    this.draw()
  }
  private ground(lower: Vec3, upper: Vec3) {
    if (this.grid) {
      this.scene.remove(this.grid)
      this.grid.dispose()
    }
    const side = Math.ceil(Math.max(upper[0] - lower[0], upper[1] - lower[1]) * 1.6)
    this.grid = new THREE.GridHelper(side, side, 0x33486b, 0x22334f)
    this.grid.rotation.x = Math.PI / 2
    this.grid.position.set(
      (lower[0] + upper[0]) / 2,
      (lower[1] + upper[1]) / 2,
      Math.min(0, lower[2] < -0.5 ? 0 : lower[2]),
    )
    this.scene.add(this.grid)
  }
  ray(event: PointerEvent | MouseEvent): THREE.Raycaster {
    const r = this.renderer.domElement.getBoundingClientRect()
    this.raycaster.setFromCamera(
      new THREE.Vector2(((event.clientX - r.left) / r.width) * 2 - 1, 1 - ((event.clientY - r.top) / r.height) * 2),
      this.camera,
    )
    return this.raycaster
  }
  picture(width = 640, height = 400): Promise<Blob | null> {
    this.coarse(false)
    this.render()
    const from = this.renderer.domElement
    const small = document.createElement('canvas')
    small.width = width
    small.height = height
    const c = small.getContext('2d')!
    const background = c.createLinearGradient(0, 0, 0, height)
    background.addColorStop(0, '#0F1B2D')
    background.addColorStop(1, '#1b2e49')
    c.fillStyle = background
    c.fillRect(0, 0, width, height)
    const s = Math.max(width / from.width, height / from.height)
    c.drawImage(from, (width - from.width * s) / 2, (height - from.height * s) / 2, from.width * s, from.height * s)
    return new Promise((done) => small.toBlob(done, 'image/png'))
  }
  dispose() {
    this.controls.dispose()
    this.target?.dispose()
    this.renderer.dispose()
    this.renderer.domElement.remove()
  }
}
