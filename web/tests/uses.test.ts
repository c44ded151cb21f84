/** Uses of a part: told in words, and taken out together with it. */
import { describe, expect, it } from 'vitest'
import { removeUses, usesOf } from '../src/score/uses'
import { useStudy } from '../src/stores/study'
import { doc, serve } from './setup'

const step = (id: string, op: string, params: Record<string, unknown> = {}) => ({ id, op, on: true, params }) as never
const region = { id: 'r', name: 'Room', bounds: { fit: ['ball'], lower: null, upper: null, padding: 0 } } as never

async function used() {
  const made = doc({
    shapes: [{ id: 'ball', name: 'Ball', kind: 'sphere', shown: true, params: {} }],
    regions: [region],
    fields: [
      {
        id: 'w',
        name: 'Wind',
        steps: [step('a', 'wind', { speed: { field: 'm' } }), step('b', 'steer', { shape: 'ball' })],
      },
      { id: 'm', name: 'Mask', steps: [step('a', 'mix', { field: 'w' })] },
    ],
    flows: [{ id: 'f', name: 'Fall', kind: 'marbles', steps: [step('a', 'walls', { shapes: ['ball', 'other'] })] }],
  })
  serve(() => ({ body: { key: 's', document: made, revision: 1, undo: null, redo: null } }))
  await useStudy().load('s')
  return useStudy().doc!
}

describe('uses of a part', () => {
  it('are told by lane, step and region', async () => {
    const d = await used()
    expect(usesOf(d, 'shape', 'ball')).toEqual(['Wind · steer', 'Fall · walls', 'region Room'])
    expect(usesOf(d, 'lane', 'm')).toEqual(['Wind · wind'])
  })

  it('go with it: lists lose the entry, numbers go back to their default, steps that need it go', async () => {
    const d = structuredClone(await used())
    removeUses(d, 'shape', 'ball')
    expect(d.fields[0].steps.map((s) => s.id)).toEqual(['a'])
    expect(d.flows[0].steps[0].params.shapes).toEqual(['other'])
    expect(usesOf(d, 'shape', 'ball')).toEqual([])
    removeUses(d, 'lane', 'm')
    expect(d.fields[0].steps[0].params).toEqual({})
  })

  it('of a lane or a region count the shape that it makes, which goes with it and with its own uses', async () => {
    const d = structuredClone(await used())
    d.shapes.push({ id: 'skin', name: 'Skin', kind: 'skin', shown: true, params: { field: 'm', region: 'r' } })
    d.fields[0].steps.push(step('c', 'steer', { shape: 'skin' }))
    expect(usesOf(d, 'lane', 'm')).toEqual(['Wind · wind', 'shape Skin', 'Wind · steer'])
    expect(usesOf(d, 'region', 'r')).toEqual(['shape Skin', 'Wind · steer'])
    removeUses(d, 'region', 'r')
    expect(d.shapes.map((s) => s.id)).toEqual(['ball'])
    expect(d.fields[0].steps.map((s) => s.id)).toEqual(['a', 'b'])
  })
})
