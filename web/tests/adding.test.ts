/** A lane begins as its kind would have it, on what the study has. */
import { describe, expect, it } from 'vitest'
import type { StudyDoc } from '../src/api/model'
import { addShape, beginWith, whyNot, whyNotBegin, whyNotShape } from '../src/score/adding'
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
  it('says what is missing before it can begin', async () => {
    const { lane, kind } = await open({ shapes: [ball] })
    expect(whyNotBegin(lane, kind)).toBe('there is no region yet')
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
    expect(whyNotShape(kind('skin'))).toBe('there is no region yet')
    study.edit('more', (d) => d.regions.push(room))
    expect(whyNotShape(kind('skin'))).toBe('')
    addShape(kind('skin'))
    expect(study.doc!.shapes[0]).toMatchObject({ kind: 'skin', params: { field: 'm', region: 'room' } })
    expect(study.selection).toMatchObject({ kind: 'shape', id: 'skin' })
  })
})
