import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it } from 'vitest'
import type { StudyDoc } from '../src/api/model'
import { inNames, placeWords } from '../src/score/places'
import { changeWords } from '../src/score/words'
import { useCatalogue } from '../src/stores/catalogue'
import { freshName } from '../src/lib/fresh'
import { useStudy } from '../src/stores/study'
import { CATALOGUE } from './catalogue'

const keyed = (...keys: [number, number][]) => ({ keys, between: 'smooth' as const })
const SPEED = { unit: 'm/s', type: 'number' }

describe('what has changed, in words', () => {
  it('tells values from and to', () => {
    expect(changeWords(1.2, 0.8, SPEED, null)).toBe('1.2 m/s → 0.8 m/s')
    expect(changeWords(1, keyed([0, 1]), SPEED, null)).toBe('1 m/s → 1 keys')
  })
  it('tells which key, and how', () => {
    const two = keyed([0, 1], [1, 2])
    const moved = keyed([0, 1], [1, 3])
    expect(changeWords(two, moved, SPEED, null)).toBe('key 2 m/s at 1 s → 3 m/s at 1 s')
    expect(changeWords(keyed([0, 1]), two, SPEED, null)).toBe('key added: 2 m/s at 1 s')
    expect(changeWords(two, keyed([0, 1]), SPEED, null)).toBe('key removed: 2 m/s at 1 s')
    expect(changeWords(two, { ...two, between: 'hold' }, SPEED, null)).toBe('between keys smooth → hold')
  })
})

describe('places', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    useCatalogue().all = CATALOGUE
    useStudy().doc = {
      fields: [{ id: 'wind', name: 'Gusts', steps: [{ id: 'a', op: 'wind', on: true, params: {} }] }],
      flows: [{ id: 'dust', name: 'Embers', kind: 'marbles', steps: [{ id: 's1', op: 'drop', on: true, params: {} }] }],
      shapes: [{ id: 'ball', name: 'Globe', kind: 'sphere', shown: true, params: {} }],
      regions: [],
      looks: {},
    } as unknown as StudyDoc
  })
  it('are named as the score names them', () => {
    expect(placeWords('flows.dust.s1.shape')).toBe('Embers ▸ drop ▸ shape')
    expect(placeWords('fields.wind.a')).toBe('Gusts ▸ wind')
    expect(placeWords('shapes.ball.radius')).toBe('Globe ▸ radius')
    expect(placeWords('flows.gone.s1')).toBe('flows.gone.s1')
  })
  it('stand in messages in place of paths and ids', () => {
    expect(inNames("flows.dust.s1.shape: particles in 'wind' gather; 'ball' is far")).toBe(
      "Embers ▸ drop ▸ shape: particles in 'Gusts' gather; 'Globe' is far",
    )
    expect(inNames("'nothing' is called so")).toBe("'nothing' is called so")
  })
})

describe('new names', () => {
  it('are numbered when they are taken', () => {
    expect(freshName('Sphere', [])).toBe('Sphere')
    expect(freshName('Sphere', ['Sphere', 'Sphere 2'])).toBe('Sphere 3')
  })
})
