/** A small catalogue: two kinds of lane, a handful of steps. */
import type { Catalogue, Entry, ParamSpec } from '../src/api/model'

export function spec(name: string, type: string, more: Partial<ParamSpec> = {}): ParamSpec {
  const plain = { label: name, unit: '', range: [null, null], open_below: false, slider: null, default: null } as const
  const flags = { required: false, varies: false, rate: false, optional: false, moment: false }
  const rest = { choices: [], help: '', when: null, files: [], group: '', provides: '', wants: '' }
  return { name, type, ...plain, range: [null, null], ...flags, ...rest, ...more }
}
export function step(id: string, lane: string, kind: string, ...params: ParamSpec[]): Entry {
  const words = { label: id, yields: '', headline: '', doc: '', mistake: '', formula: '' }
  return {
    id,
    lane,
    kind,
    accepts: kind === 'start' ? 'nothing' : 'any',
    params,
    roles: {},
    carries: [],
    names_channel: '',
    ...words,
  }
}
const required = (name: string, type: string) => spec(name, type, { required: true, default: '' })
const shapeKind = (id: string, ...params: ParamSpec[]) => ({
  ...{ id, label: id, yields: '', headline: '', doc: '', mistake: '', formula: '' },
  params,
})
const shape = (name: string) => spec(name, 'shape', { required: true, default: '' })

export const CATALOGUE: Catalogue = {
  steps: [
    step('wind', 'field', 'start', spec('speed', 'number', { varies: true, default: 1 })),
    step('steer', 'field', 'change', shape('shape')),
    step('mix', 'field', 'join', spec('field', 'field', { required: true, default: '' })),
    step('place', 'marbles', 'domain', spec('region', 'region', { required: true, default: '' })),
    step('drop', 'marbles', 'emit', shape('shape')),
    step('follow', 'marbles', 'motion', spec('flow', 'flow', { required: true, default: '', provides: 'volume' })),
    step('walls', 'marbles', 'solid', spec('shapes', 'shapes', { required: true, default: [] })),
  ],
  light: [],
  shapes: [
    shapeKind('sphere', spec('radius', 'number', { default: 1 })),
    shapeKind('skin', { ...required('field', 'field'), wants: 'scalar' }, required('region', 'region')),
  ],
  kinds: [
    {
      id: 'marbles',
      label: 'Marbles',
      yields: 'what falls',
      unit: 'marbles',
      icon: 'points',
      begins_with: [
        { op: 'place', params: {} },
        { op: 'drop', params: {} },
      ],
      results: [
        { name: 'marbles', label: 'marbles', form: 'points', from_study: false, aside: false, formats: ['ply'] },
      ],
      looks: { points: [spec('colour', 'channel', { default: 'speed' }), spec('size', 'number', { default: 3 })] },
    },
  ],
}
