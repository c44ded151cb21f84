/** Handles in the view: points that are dragged to place what is selected. */
import * as THREE from 'three'
import type { Params, Raw, Region, Shape, StudyDoc, Vec3 } from '../api/model'
import type { SceneFacts } from '../stores/look'
import type { Selection } from '../stores/study'
import { useStudy } from '../stores/study'
import { clear, material } from './materials'

type RegionFacts = SceneFacts['regions'][number]

export interface Handle {
  id: string
  at: Vec3
  name: string
  put: (to: Vec3) => void
}
const isVec = (raw: Raw | undefined): raw is Vec3 =>
  Array.isArray(raw) && raw.length === 3 && raw.every((v) => typeof v === 'number')
const tidy = (v: Vec3): Vec3 => v.map((x) => Number(x.toFixed(3))) as Vec3

/** What can be dragged for the selection: a shape's place, a curve's points, the places of a step, a region's
 * corners. */
export function handlesFor(
  doc: StudyDoc,
  selection: Selection,
  boxes: { id: string; lower: Vec3; upper: Vec3 }[] = [],
  regions: RegionFacts[] = [],
): Handle[] {
  const study = useStudy()
  if (!selection) return []
  const found: Handle[] = []
  if (selection.kind === 'shape') {
    const shape = doc.shapes.find((s) => s.id === selection.id)
    if (shape) found.push(...ofShape(shape))
  } else if (selection.kind === 'region') {
    const region = doc.regions.find((r) => r.id === selection.id)
    for (const which of ['lower', 'upper'] as const) {
      const corner = region?.bounds[which]
      if (region && corner)
        found.push({
          id: `${region.id}.${which}`,
          at: corner,
          name: `${which} corner`,
          put: (to) =>
            study.edit(
              `${which === 'lower' ? 'Lower' : 'Upper'} corner`,
              (d) => {
                const b = d.regions.find((r) => r.id === region.id)!.bounds
                const other = b[which === 'lower' ? 'upper' : 'lower']!
                b[which] = tidy(to).map((v, i) =>
                  which === 'lower' ? Math.min(v, other[i] - 0.01) : Math.max(v, other[i] + 0.01),
                ) as Vec3
              },
              `${region.id}.${which}`,
            ),
        })
    }
    const facts = regions.find((r) => r.id === selection.id)
    if (region && facts) found.push(...sidesOf(region, facts))
  } else if (selection.kind === 'step') {
    const step = study.selectedStep
    const entry = step && study.entry(step.op, selection.lane)
    for (const p of entry?.params ?? []) {
      const raw = step!.params[p.name] ?? p.default
      if (p.type !== 'vector' || p.unit !== 'm' || !isVec(raw)) continue
      found.push({
        id: p.name,
        at: raw,
        name: p.label,
        put: (to) => study.setParam(selection, p, tidy(to), `→ ${tidy(to).join(' ')} m`),
      })
    }
    const reach = entry?.params.find((p) => p.name === 'fade_over')
    const first = boxes.find((b) => Array.isArray(step?.params.shapes) && (step!.params.shapes as string[])[0] === b.id)
    const value = reach && (step!.params.fade_over ?? reach.default)
    if (reach && first && typeof value === 'number') {
      const edge = first.upper[0]
      const middle = [1, 2].map((i) => (first.lower[i] + first.upper[i]) / 2)
      found.push({
        id: 'fade_over',
        at: [edge + value, middle[0], middle[1]],
        name: reach.label,
        put: (to) => {
          const v = Math.max(0, Number((to[0] - edge).toFixed(3)))
          study.setParam(selection, reach, v, `→ ${v} m`)
        },
      })
    }
  }
  return found
}
/** Middles of the six sides of a region: dragged, the box ends there; what is fitted gets more on that side. */
function sidesOf(region: Region, facts: RegionFacts): Handle[] {
  const study = useStudy()
  const corner = (i: number, j: number, k: number) => new THREE.Vector3(...facts.corners[4 * i + 2 * j + k])
  const middle = (axis: number, side: number) => {
    const sum = new THREE.Vector3()
    for (const a of [0, 1])
      for (const b of [0, 1]) {
        const at = [a, b]
        at.splice(axis, 0, side)
        sum.addScaledVector(corner(at[0], at[1], at[2]), 0.25)
      }
    return sum
  }
  return [0, 1, 2].flatMap((axis) =>
    [0, 1].flatMap((side) => {
      if (axis === 2 && !side && region.bounds.floor) return [] // its floor says where it ends
      const at = middle(axis, side)
      const outward = at.clone().sub(middle(axis, 1 - side))
      const length = outward.length()
      outward.normalize()
      const name = `${side ? 'upper' : 'lower'} ${'xyz'[axis]} side`
      return {
        id: `${region.id}.${name}`,
        at: at.toArray() as Vec3,
        name,
        put: (to: Vec3) => {
          const by = Math.max(new THREE.Vector3(...to).sub(at).dot(outward), 0.02 - length)
          study.edit(
            `Move the ${name} of ${region.name}`,
            (d) => {
              const b = d.regions.find((r) => r.id === region.id)!.bounds
              const which = b.fit.length ? (side ? 'more_above' : 'more_below') : side ? 'upper' : 'lower'
              const sign = b.fit.length || side ? 1 : -1
              // from what the box was drawn by: what has been dragged since is not counted twice
              const next = [...(b[which] ?? facts.given[which]!)] as Vec3
              next[axis] = Number(((facts.given[which] ?? next)[axis] + sign * by).toFixed(3))
              b[which] = next
            },
            `${region.id}.${name}`,
          )
        },
      }
    }),
  )
}
function ofShape(shape: Shape): Handle[] {
  const study = useStudy()
  const owner: Selection = { kind: 'shape', id: shape.id }
  const move = (shape.params.move ?? [0, 0, 0]) as Raw
  const turn = shape.params.turn as Raw | undefined
  if (!isVec(move)) return []
  const spec = (name: string) => study.shapeEntry(shape.kind)!.params.find((p) => p.name === name)!
  const upright = !turn || (isVec(turn) && turn.every((v) => v === 0))
  const number = (name: string): number | null => {
    const raw = shape.params[name] ?? study.shapeEntry(shape.kind)?.params.find((p) => p.name === name)?.default
    return typeof raw === 'number' ? raw : null
  }
  function length(name: string, at: Vec3, read: (to: Vec3) => number): Handle {
    return {
      id: name,
      at,
      name: spec(name).label,
      put: (to) => {
        const v = Math.max(0.01, Number(read(to).toFixed(3)))
        study.setParam(owner, spec(name), v, `→ ${v} m`)
      },
    }
  }
  /** Handles on the surface, by which sizes are dragged. */
  function sizes(): Handle[] {
    if (!upright) return []
    const [x, y, z] = move as Vec3
    const made: Handle[] = []
    for (const name of ['radius', 'low', 'ring']) {
      const r = number(name)
      if (r !== null)
        made.push(
          length(name, [x + r, y, name === 'low' ? z - (number('height') ?? 0) / 2 : z], (to) => Math.abs(to[0] - x)),
        )
    }
    const ring = number('ring'),
      tube = number('tube'),
      height = number('height')
    if (ring !== null && tube !== null)
      made.push(length('tube', [x, y + ring + tube, z], (to) => Math.abs(to[1] - y - ring)))
    if (height !== null) made.push(length('height', [x, y, z + height / 2], (to) => 2 * Math.abs(to[2] - z)))
    const size = shape.params.size ?? study.shapeEntry(shape.kind)?.params.find((p) => p.name === 'size')?.default
    if (isVec(size as Raw))
      made.push({
        id: 'size',
        at: [x + (size as Vec3)[0] / 2, y + (size as Vec3)[1] / 2, z + (size as Vec3)[2] / 2],
        name: 'Size',
        put: (to) => {
          const v = tidy([0, 1, 2].map((i) => Math.max(0.01, 2 * Math.abs(to[i] - (move as Vec3)[i]))) as Vec3)
          study.setParam(owner, spec('size'), v, `→ ${v.join(' ')} m`)
        },
      })
    return made
  }
  const points = shape.params.points ?? (shape.kind === 'curve' && !shape.params.file ? spec('points').default : null)
  if (shape.kind === 'curve' && Array.isArray(points) && upright) {
    const start = (points as Vec3[])[0]
    const radius = shape.params.radius ?? spec('radius').default
    const round: Handle[] =
      typeof radius === 'number' && start
        ? [
            length('radius', [start[0] + move[0], start[1] + move[1], start[2] + move[2] + radius], (to) =>
              Math.abs(to[2] - start[2] - move[2]),
            ),
          ]
        : []
    return [
      ...round,
      ...(points as Vec3[]).map((p, i) => ({
        id: `point ${i}`,
        at: p.map((v, a) => v + move[a]) as Vec3,
        name: `Point ${i + 1}`,
        put: (to: Vec3) => {
          const next = ((useStudy().doc!.shapes.find((s) => s.id === shape.id)!.params.points ?? points) as Vec3[]).map(
            (q) => [...q] as Vec3,
          )
          next[i] = tidy(to.map((v, a) => v - move[a]) as Vec3)
          study.setParam(owner, spec('points'), next as unknown as Raw, `point ${i + 1}`)
        },
      })),
    ]
  }
  return [
    ...sizes(),
    {
      id: 'move',
      at: move,
      name: `Place of ${shape.name}`,
      put: (to) => study.setParam(owner, spec('move'), tidy(to), `→ ${tidy(to).join(' ')} m`),
    },
  ]
}

/** Add a point to a curve where the view was clicked. */
export function appendPoint(id: string, at: Vec3) {
  const study = useStudy()
  study.edit('Draw the path', (d) => {
    const params: Params = d.shapes.find((s) => s.id === id)!.params
    const move = isVec(params.move) ? params.move : ([0, 0, 0] as Vec3)
    const points = (params.points ??
      study.shapeEntry('curve')!.params.find((p) => p.name === 'points')!.default) as unknown as Vec3[]
    params.points = [...points, tidy(at.map((v, a) => v - move[a]) as Vec3)] as unknown as Raw
  })
}

export function drawHandles(group: THREE.Group, handles: Handle[], hot: string) {
  clear(group)
  for (const h of handles) {
    const sprite = new THREE.Sprite(
      material(
        `handle.${h.id === hot}`,
        () =>
          new THREE.SpriteMaterial({
            map: disc(h.id === hot),
            sizeAttenuation: false,
            depthTest: false,
            transparent: true,
          }),
      ),
    )
    sprite.position.set(...h.at)
    sprite.scale.setScalar(0.022)
    sprite.renderOrder = 10
    sprite.name = h.id
    group.add(sprite)
  }
}
/** A ring with a dot, drawn once for each state. */
function disc(hot: boolean): THREE.CanvasTexture {
  const c = document.createElement('canvas')
  c.width = c.height = 48
  const g = c.getContext('2d')!
  g.beginPath()
  g.arc(24, 24, 18, 0, 7)
  g.fillStyle = hot ? '#D2492A' : '#F5F0E6'
  g.fill()
  g.lineWidth = 5
  g.strokeStyle = '#0F1B2D'
  g.stroke()
  g.beginPath()
  g.arc(24, 24, 6, 0, 7)
  g.fillStyle = '#0F1B2D'
  g.fill()
  return new THREE.CanvasTexture(c)
}
