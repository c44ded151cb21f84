/** How each form of result is drawn: one three.js layer a result. A new form is one entry here. */
import * as THREE from 'three'
import type { FlowLook } from '../api/model'
import { Particles } from '../scene/particles'
import { Smoke } from '../scene/smoke'
import { MeshLayer } from '../scene/surface'
import type { Gas } from '../scene/viewer'
import type { Part, PointsPart, VolumePart } from './frames'

export interface Layer {
  readonly object: THREE.Object3D
  /** Show a part, or nothing; `range`: of the channel that colours; `stale`: of the version before; `foam`:
   * speed from which on points are drawn, as foam. */
  show(part: Part | null, look: FlowLook, range: [number, number], stale: boolean, foam?: number | null): void
  /** Fewer points or steps while the view moves on a machine that draws slowly. */
  draft(on: boolean): void
  /** The box that it was computed in, where there is one. */
  outline(on: boolean): void
  /** What the view has to know of it, if it is gas that is drawn. */
  gas(): Gas | null
  dispose(): void
}

class PointsLayer implements Layer {
  private readonly points = new Particles()
  readonly object = this.points.object
  show(part: Part | null, look: FlowLook, range: [number, number], stale: boolean, foam: number | null = null) {
    this.points.show(part as PointsPart | null, look, range, stale, foam)
  }
  draft(on: boolean) {
    this.points.draft(on)
  }
  outline() {}
  gas() {
    return null
  }
  dispose() {
    this.points.dispose()
  }
}

class VolumeLayer implements Layer {
  private readonly smoke: Smoke
  readonly object: THREE.Object3D
  constructor(depths: () => THREE.Texture | null) {
    this.smoke = new Smoke(depths)
    this.object = this.smoke.mesh
  }
  show(part: Part | null, look: FlowLook, _range: [number, number], stale: boolean) {
    this.smoke.show(part as VolumePart | null, look, stale)
  }
  draft(on: boolean) {
    this.smoke.draft(on)
  }
  outline(on: boolean) {
    this.smoke.outline.visible = on
  }
  gas() {
    return this.smoke.mesh.visible ? this.smoke : null
  }
  dispose() {
    this.smoke.dispose()
  }
}

type Make = (depths: () => THREE.Texture | null) => Layer
const LAYERS: Record<Part['form'], Make> = {
  points: () => new PointsLayer(),
  volume: (depths) => new VolumeLayer(depths),
  mesh: () => new MeshLayer(),
}
export const makeLayer = (form: Part['form'], depths: () => THREE.Texture | null): Layer => LAYERS[form](depths)
