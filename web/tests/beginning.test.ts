/** A study and a lane of every kind are begun on what the server really lists; lanes and shapes are used and let go. */
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Params, StudyDoc } from '../src/api/model'
import { namedIn, shapesThat } from '../src/kinds/roles'
import { addShape, addStepTo, beginWith, whyNot, whyNotBegin, whyNotShape } from '../src/score/adding'
import { inNames, placeWords } from '../src/score/places'
import { removeUses, usesOf } from '../src/score/uses'
import { rawWords } from '../src/score/words'
import { lanesAsShapes, standing, standInOf, standInWords } from '../src/lib/standing'
import { useCatalogue } from '../src/stores/catalogue'
import { DEMOS, opened, REAL } from './real'
import { doc } from './setup'

vi.mock('../src/api/client', async (original) => ({
  ...(await original<object>()),
  newest: () => Promise.resolve(null),
  newestArrays: () => Promise.resolve(null),
}))
beforeEach(() => {
  vi.useFakeTimers()
})
const ball = { id: 'ball', name: 'Ball', kind: 'sphere', shown: true, params: {} }
const room = { id: 'room', name: 'Room', bounds: { lower: [0, 0, 0], upper: [1, 1, 1], fit: [] }, voxel_size: 0.1 }
const wind = { id: 'wind', name: 'Wind', steps: [{ id: 'w', op: 'wind', on: true, params: {} }] }
const kinds = REAL.kinds.map((k) => [k.id, k] as const)
const given = (...flows: unknown[]) =>
  doc({ shapes: [ball], regions: [room], fields: [wind], flows } as never as Partial<StudyDoc>)

describe('a lane of a kind', () => {
  it.each(kinds)('%s: begins in one edit with everything that its steps have to name', async (id, kind) => {
    const { study, saved } = await opened(given({ id: 'f', name: 'F', kind: id, steps: [] }))
    const lane = study.laneOf('f')!
    expect(whyNotBegin(lane, kind)).toBe('')
    beginWith(lane, kind)
    const steps = study.laneOf('f')!.steps
    expect(steps.map((s) => s.op)).toEqual(kind.begins_with.map((b) => b.op))
    for (const step of steps)
      for (const p of study.entry(step.op, 'f')!.params) {
        const plain = Object.keys(p.when ?? {}).length === 0
        if (p.required && plain) expect(step.params[p.name], `${step.op} ${p.name}`).toBeTruthy()
      }
    await vi.advanceTimersByTimeAsync(400)
    expect(saved()).toHaveLength(1)
  })
  it.each(kinds)('%s: takes what can stand behind its first steps, and says why not of the rest', async (id, kind) => {
    const { study } = await opened(given({ id: 'f', name: 'F', kind: id, steps: [] }))
    beginWith(study.laneOf('f')!, kind)
    let added = 0
    for (const entry of useCatalogue().stepsOf(study.laneOf('f')!)) {
      const why = whyNot(study.laneOf('f')!, entry)
      if (why) {
        expect(why).toMatch(/^(begins a lane|there is no|takes a|needs|this lane)/)
        continue
      }
      const before = study.laneOf('f')!.steps.length
      addStepTo(study.laneOf('f')!, entry)
      expect(study.laneOf('f')!.steps).toHaveLength(before + 1)
      added++
    }
    expect(added).toBeGreaterThan(2)
  })
  it.each(kinds)(
    '%s: begins in an empty study with a ball and a region, or says which lane is missing',
    async (id, kind) => {
      const { study, saved } = await opened(doc({ flows: [{ id: 'f', name: 'F', kind: id, steps: [] }] } as never))
      const why = whyNotBegin(study.laneOf('f')!, kind)
      if (id === 'particles') {
        expect(why).toMatch(/^there is no other lane yet/)
        return
      }
      expect(why).toBe('')
      beginWith(study.laneOf('f')!, kind)
      const there = [...study.doc!.shapes, ...study.doc!.regions].map((x) => x.id)
      expect(there).toEqual(['sphere', 'region'])
      const named = study.laneOf('f')!.steps.flatMap((s) =>
        study
          .entry(s.op, 'f')!
          .params.filter((p) => p.required && ['shape', 'shapes', 'region'].includes(p.type))
          .flatMap((p) => (s.params[p.name] ?? []) as string | string[]),
      )
      expect(new Set(named)).toEqual(new Set(there))
      await vi.advanceTimersByTimeAsync(400)
      expect(saved()).toHaveLength(1)
    },
  )
})

describe('a shape', () => {
  it.each(REAL.shapes.map((s) => [s.id, s] as const))(
    '%s: is added, or it is said why it cannot be',
    async (_, entry) => {
      const { study } = await opened(given())
      const why = whyNotShape(entry)
      if (why) expect(why).toMatch(/no|yet|choose|add/)
      else {
        addShape(entry)
        expect(study.doc!.shapes).toHaveLength(2)
        expect(study.selection).toMatchObject({ kind: 'shape', id: study.doc!.shapes[1].id })
      }
    },
  )
  it('stands for a distance lane and is made once, in the edit that chooses it', async () => {
    const near = { id: 'near', name: 'Near', steps: [{ id: 'd', op: 'distance', on: true, params: { shape: 'ball' } }] }
    const d = doc({ shapes: [ball], regions: [room], fields: [wind, near] } as never as Partial<StudyDoc>)
    const unit = (lane: string) => (lane === 'near' ? 'm' : 'm/s')
    expect(lanesAsShapes(d, unit)).toEqual([{ id: standInOf('near'), name: 'surface of Near' }])
    expect(lanesAsShapes(d, unit, 'near')).toEqual([])
    expect(lanesAsShapes({ ...d, regions: [] }, unit)).toEqual([])
    expect(standInWords(d, standInOf('near'))).toBe('surface of Near')
    const made = standing(d, ['ball', standInOf('near')] as never) as unknown as string[]
    expect(d.shapes.map((s) => s.kind)).toEqual(['sphere', 'field_surface'])
    expect(made).toEqual(['ball', d.shapes[1].id])
    expect(standing(d, standInOf('near'))).toBe(d.shapes[1].id)
    expect(d.shapes).toHaveLength(2)
    expect(lanesAsShapes(d, unit)).toEqual([])
  })
})

describe('the demo studies', () => {
  it.each(DEMOS)(
    '%s: every part that is used is told, and is used no more once its uses are taken out',
    async (_, d) => {
      const { study } = await opened(structuredClone(d))
      const parts = [
        ...d.shapes.map((s) => ['shape', s.id] as const),
        ...d.regions.map((r) => ['region', r.id] as const),
        ...[...d.fields, ...d.flows].map((l) => ['lane', l.id] as const),
      ]
      for (const [what, id] of parts) {
        const now = structuredClone(study.doc!) as StudyDoc
        removeUses(now, what, id)
        expect(usesOf(now, what, id), `${what} ${id}`).toEqual([])
      }
      expect(parts.some(([what, id]) => usesOf(study.doc!, what, id).length)).toBe(true)
    },
  )
  it.each(DEMOS)('%s: every value and every place has words', async (_, d) => {
    const { study } = await opened(structuredClone(d))
    for (const lane of [...d.fields, ...d.flows])
      for (const step of lane.steps) {
        const entry = study.entry(step.op, lane.id)!
        const kind = study.isFlow(lane.id) ? 'flows' : 'fields'
        expect(placeWords(`${kind}.${lane.id}.${step.id}`)).toBe(`${lane.name} ▸ ${entry.label}`)
        for (const [name, raw] of Object.entries(step.params as Params)) {
          const spec = entry.params.find((p) => p.name === name)!
          const words = rawWords(raw, spec, study.doc)
          expect(words, `${step.op} ${name}`).not.toMatch(/undefined|NaN|\[object/)
          expect(placeWords(`${kind}.${lane.id}.${step.id}.${name}`)).toContain(spec.label)
        }
      }
    const [first] = d.fields
    expect(inNames(`'${first.id}' is a vector (fields.${first.id})`)).toContain(first.name)
    expect(inNames("'nobody' is not there")).toBe("'nobody' is not there")
    expect(placeWords('fields.nobody.s')).toBe('fields.nobody.s')
  })
  it('tell which shapes bring something in, and which stand in its way', async () => {
    const [, d] = DEMOS.find(([name]) => name === 'harbour_gust')!
    await opened(structuredClone(d))
    const emits = shapesThat(d, 'emits')
    expect(emits.size).toBeGreaterThan(0)
    for (const id of [...emits, ...shapesThat(d, 'blocks')]) expect(d.shapes.map((s) => s.id)).toContain(id)
    expect(shapesThat(d, 'emits', () => false).size).toBe(0)
    expect(namedIn(undefined, {}, 'emits')).toEqual([])
  })
})
