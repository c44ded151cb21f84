/** A lane begins as its kind would have it, on what the study has. */
import { describe, expect, it, vi } from 'vitest'
import type { StudyDoc } from '../src/api/model'
import { addShape, addStepTo, beginWith, whyNot, whyNotBegin, whyNotShape } from '../src/score/adding'
import { useCatalogue } from '../src/stores/catalogue'
import { useStudy } from '../src/stores/study'
import { doc, serve } from './setup'

async function open(more: Partial<StudyDoc>) {
  const made = doc({ flows: [{ id: 'm', name: 'Marbles', kind: 'marbles', steps: [] }], ...more })
  serve(() => ({ body: { key: 's', document: made, revision: 1, undo: null, redo: null } }))
  await useStudy().load('s')
  return { study: useStudy(), lane: useStudy().laneOf('m')!, kind: useCatalogue().kind('marbles')! }
}
const ball = { id: 'ball', name: 'Ball', kind: 'sphere', shown: true, params: {} }
const room = { id: 'room', name: 'Room' } as never

describe('an empty lane', () => {
  it('makes a ball and a region around it where there is nothing at all', async () => {
    const { study, lane, kind } = await open({})
    expect(whyNotBegin(lane, kind)).toBe('')
    beginWith(lane, kind)
    expect(study.doc!.shapes).toEqual([
      { id: 'sphere', name: 'sphere', kind: 'sphere', shown: true, params: { move: [0, 0, 1] } },
    ])
    expect(study.doc!.regions.map((r) => r.bounds.fit)).toEqual([['sphere']])
    expect(study.laneOf('m')!.steps.map((s) => s.params)).toEqual([{ region: 'region' }, { shape: 'sphere' }])
  })

  it('makes a region around what there is if there is none, in the same edit, and one is enough', async () => {
    const { study, lane, kind } = await open({ shapes: [ball, { ...ball, id: 'floor', kind: 'plane' }] })
    expect(whyNotBegin(lane, kind)).toBe('')
    const edits = vi.spyOn(study, 'edit')
    beginWith(lane, kind)
    expect(study.doc!.regions.map((r) => [r.id, r.name, r.bounds.fit, r.bounds.padding])).toEqual([
      ['region', 'Region', ['ball'], 1],
    ])
    expect(study.laneOf('m')!.steps[0].params).toEqual({ region: 'region' })
    expect(edits).toHaveBeenCalledTimes(1)
    addStepTo(study.laneOf('m')!, useCatalogue().step('place', lane)!)
    addShape(useCatalogue().shape('skin')!)
    expect(study.doc!.regions.length).toBe(1)
  })

  it('gets the first steps of its kind in one edit, on the region and the shape that are there', async () => {
    const { study, lane, kind } = await open({ shapes: [ball], regions: [room] })
    expect(whyNotBegin(lane, kind)).toBe('')
    beginWith(lane, kind)
    const steps = study.laneOf('m')!.steps
    expect(steps.map((s) => [s.op, s.params])).toEqual([
      ['place', { region: 'room' }],
      ['drop', { shape: 'ball' }],
    ])
    expect(study.selection).toMatchObject({ kind: 'step', lane: 'm', id: 'drop' })
  })

  it('takes no step before the one that says where, and no flow that has not what a step takes', async () => {
    const { lane } = await open({ shapes: [ball], regions: [room] })
    const steps = Object.fromEntries(
      useCatalogue()
        .stepsOf(lane)
        .map((e) => [e.id, e]),
    )
    expect(whyNot(lane, steps.drop)).toBe('this lane begins with place')
    const full = { ...lane, steps: [{ id: 'p', op: 'place', on: true, params: {} }] }
    expect(whyNot(full, steps.place)).toBe('begins a lane')
    expect(whyNot(full, steps.follow)).toBe('there is no other flow that has volume yet')
    expect(whyNot(full, steps.drop)).toBe('')
  })
})

describe('a shape', () => {
  const kind = (id: string) => useCatalogue().shape(id)!

  it('stands above the ground, and is numbered if there is one of its kind', async () => {
    const { study } = await open({ shapes: [] })
    addShape(kind('sphere'))
    addShape(kind('sphere'))
    expect(study.doc!.shapes.map((s) => [s.name, s.params])).toEqual([
      ['sphere', { move: [0, 0, 1] }],
      ['sphere 2', { move: [0, 0, 1] }],
    ])
  })

  it('that a lane makes takes the newest lane and the first region, and says what is missing', async () => {
    const { study } = await open({ shapes: [] })
    expect(whyNotShape(kind('skin'))).toBe('there is no scalar lane yet')
    study.edit('more', (d) => {
      d.fields.push({ id: 'm', name: 'Mask', steps: [{ id: 'a', op: 'wind', on: true, params: {} }] })
    })
    expect(whyNotShape(kind('skin'))).toBe('')
    addShape(kind('skin'))
    expect(study.doc!.shapes[0]).toMatchObject({ kind: 'skin', params: { field: 'm', region: 'region' } })
    expect(study.doc!.regions[0].bounds).toMatchObject({ fit: [], lower: [-2, -2, 0], upper: [2, 2, 2.5] })
    expect(study.selection).toMatchObject({ kind: 'shape', id: 'skin' })
  })
})
