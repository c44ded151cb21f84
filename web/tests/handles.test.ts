import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it } from 'vitest'
import type { StudyDoc, Vec3 } from '../src/api/model'
import { newRegion } from '../src/lib/regions'
import { handlesFor } from '../src/scene/handles'
import type { SceneFacts } from '../src/stores/look'
import { useCatalogue } from '../src/stores/catalogue'
import { useStudy } from '../src/stores/study'
import { CATALOGUE } from './catalogue'

const corners = [0, 1].flatMap((x) => [0, 1].flatMap((y) => [0, 1].map((z): Vec3 => [2 * x - 1, 2 * y - 1, 2 * z])))
function begun(region: ReturnType<typeof newRegion>) {
  const { lower, upper, more_below, more_above } = region.bounds
  const study = useStudy()
  study.doc = { fields: [], flows: [], shapes: [], regions: [region], looks: {} } as unknown as StudyDoc
  const facts = { id: 'room', corners, given: { lower, upper, more_below, more_above } }
  const handles = () =>
    handlesFor(study.doc!, { kind: 'region', id: 'room' }, [], [facts as unknown as SceneFacts['regions'][number]])
  const side = (name: string) => handles().find((h) => h.name === name)
  return { study, handles, side, bounds: () => study.doc!.regions[0].bounds }
}

describe('the sides of a region', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    useCatalogue().all = CATALOGUE
  })
  it('stand in the middles of all six, and a box ends where one is dragged', () => {
    const { handles, side, bounds } = begun(newRegion('room', 'Room', { lower: [-1, -1, 0], upper: [1, 1, 2] }))
    expect(handles().filter((h) => h.name.endsWith('side'))).toHaveLength(6)
    expect(side('upper x side')!.at).toEqual([1, 0, 1])
    side('upper x side')!.put([1.5, 9, 9])
    expect(bounds().upper).toEqual([1.5, 1, 2])
    side('lower z side')!.put([0, 0, -0.25])
    expect(bounds().lower).toEqual([-1, -1, -0.25])
  })
  it('give what is fitted more on that side, counted once however often the pointer moves', () => {
    const { side, bounds } = begun(newRegion('room', 'Room', { fit: ['ball'], padding: 0.1 }))
    const held = side('lower y side')!
    for (const y of [-1.1, -1.3, -1.4]) held.put([0, y, 1])
    side('lower y side')!.put([0, -1.5, 1])
    expect(bounds().more_below).toEqual([0, 0.5, 0])
    expect(bounds().lower).toBeNull()
  })
  it('never turn the box inside out', () => {
    const { side, bounds } = begun(newRegion('room', 'Room', { lower: [-1, -1, 0], upper: [1, 1, 2] }))
    side('upper x side')!.put([-7, 0, 1])
    expect(bounds().upper![0]).toBeGreaterThan(-1)
  })
  it('leave the lowest to the floor where there is one', () => {
    const region = newRegion('room', 'Room', { fit: ['ball'], padding: 0 })
    region.bounds.floor = 'slab'
    const { side } = begun(region)
    expect(side('lower z side')).toBeUndefined()
    expect(side('upper z side')).toBeDefined()
  })
})
