import { expect, test } from 'vitest'
import { channelsIn } from '../src/forms/channels'
import { step as entry } from './catalogue'

const known: Record<string, unknown> = {
  begin: { ...entry('begin', 'gas', 'domain'), carries: ['density', 'temperature'] },
  more: { ...entry('more', 'gas', 'change'), names_channel: 'name', params: [{ name: 'name', default: 'glow' }] },
}
const names = (steps: object[], except = '') =>
  channelsIn({ id: 'l', name: 'L', steps } as never, (op) => known[op] as never, except).map((c) => c.id)

test('channels are those that the catalogue says of the steps that are on', () => {
  const steps = [
    { id: 'a', op: 'begin', on: true, params: {} },
    { id: 'b', op: 'more', on: true, params: {} },
    { id: 'c', op: 'more', on: true, params: { name: 'age' } },
    { id: 'd', op: 'more', on: false, params: { name: 'off' } },
    { id: 'e', op: 'unknown', on: true, params: {} },
  ]
  expect(names(steps)).toEqual(['density', 'temperature', 'glow', 'age'])
  expect(names(steps, 'age')).toEqual(['density', 'temperature', 'glow'])
})
