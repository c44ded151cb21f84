/** What the view shows of flows: a layer for every result of a frame, and what lanes draw. */
import * as THREE from 'three'
import type { FlowLook } from '../api/model'
import { drawnMesh, standsFor, type Named } from '../forms/frames'
import { makeLayer, type Layer } from '../forms/layers'
import { areDrawn, drawInstances } from '../scene/instances'
import { clear } from '../scene/materials'
import { drawTrails } from '../scene/trails'
import type { Viewer } from '../scene/viewer'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import { useView } from '../stores/view'

/** What instances may stand on besides the points of the flow. */
const SPREAD = 'spread points'

/** Layers of a flow: one a result of its frames, and what its lane draws. */
interface Layers {
  results: Map<string, Layer>
  trails: THREE.Group
  instances: THREE.Group
}

/** Points beside the main ones are spray: pale, whatever colours the rest. */
const beside = (how: FlowLook): FlowLook => ({
  ...how,
  map: 'mix',
  first: '#A9C8E6',
  last: '#FFFFFF',
  blend: 'additive',
})

export class FlowLayers {
  private readonly flows = new Map<string, Layers>()
  private readonly study = useStudy()
  private readonly runs = useRuns()
  private readonly shows = useView()

  constructor(private readonly viewer: Viewer) {}

  /** What something makes of every layer. */
  each<T>(work: (layer: Layer) => T): T[] {
    return [...this.flows.values()].flatMap((f) => [...f.results.values()].map(work))
  }

  /** Draw all flows as they are at the frame; the window of the one that is `selected` is outlined. */
  show(selected: string) {
    const ids = (this.study.doc?.flows ?? []).map((f) => f.id)
    for (const id of [...this.flows.keys()]) if (!ids.includes(id)) this.drop(id)
    for (const id of ids) this.showOne(id, selected === id)
  }

  clear() {
    for (const id of [...this.flows.keys()]) this.drop(id)
  }

  private showOne(id: string, selected: boolean) {
    const { runs, shows } = this
    const how = runs.lookOf(id)
    const frame = runs.shown[id] ?? null
    const mesh = frame ? drawnMesh(runs.drawn[id]) : null
    const parts: Named[] = [...(frame?.parts ?? []), ...(mesh && how.draw !== 'points' ? [mesh] : [])]
    const main = frame?.parts[0].name
    const { results, trails, instances } = this.layersOf(id, parts)
    const range: [number, number] = [how.low ?? frame?.low ?? 0, how.high ?? frame?.high ?? 1]
    if (how.colour === 'speed' && how.low === null) range[0] = 0
    if (how.colour === 'direction') [0, 1].forEach((i) => (range[i] = (i ? how.high : how.low) ?? 360 * i - 180))
    const drawn = shows.showFlows ? (runs.drawn[id] ?? null) : null
    const stale = runs.isStale(id)
    const covered = areDrawn(drawn) && drawn!.facts.on !== SPREAD // instances stand in for the points they are on
    for (const [name, layer] of results) {
      const part = parts.find((p) => p.name === name) ?? null
      const hidden =
        !shows.showFlows || (covered && part?.form === 'points') || (part && standsFor(mesh, part, main, how))
      const foam = hidden && part?.form === 'points' && name === main && mesh && shows.showFlows ? how.foam : null
      const drawnPart = hidden && foam === null ? null : part
      layer.show(drawnPart, part?.form === 'points' && name !== main ? beside(how) : how, range, stale, foam)
      layer.outline(selected)
    }
    drawInstances(instances, drawn, how, range, stale)
    drawTrails(trails, drawn, how, how.colour === 'speed' ? range : [0, frame?.high ?? 1], stale)
  }

  /** The layers of a flow, one for every result that its frame holds. */
  private layersOf(id: string, parts: Named[]): Layers {
    let made = this.flows.get(id)
    if (!made) {
      made = { results: new Map(), trails: new THREE.Group(), instances: new THREE.Group() }
      this.flows.set(id, made)
      this.viewer.scene.add(made.trails, made.instances)
    }
    for (const { name, form } of parts) {
      if (made.results.has(name)) continue
      const layer = makeLayer(form, () => this.viewer.depths)
      made.results.set(name, layer)
      this.viewer.scene.add(layer.object)
    }
    return made
  }

  private drop(id: string) {
    const old = this.flows.get(id)!
    for (const layer of old.results.values()) {
      this.viewer.scene.remove(layer.object)
      layer.dispose()
    }
    this.viewer.scene.remove(old.trails, old.instances)
    clear(old.trails)
    this.flows.delete(id)
  }
}
