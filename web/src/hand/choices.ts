/** What a user chooses of a delivery. */
import type { components } from '../api/schema'
import { toMinute } from '../lib/when'

type Options = components['schemas']['OptionsIn']

/** What is handed over of a row: its format, the channels that are wanted, all if none is named, and for a field the
 *  region that it is written on. */
export interface Chosen {
  format: string
  channels: string[]
  region: string
}

/** A result of a run, or a field or shape of the study as it stands. */
export interface Row {
  id: string
  /** Of what is in the page for it. */
  test: string
  run: string
  result: string
  sort: 'run' | 'field' | 'shape'
  name: string
  /** Quality of a run. */
  quality: string
  label: string
  done: boolean
  first: number
  last: number
  still: boolean
  formats: string[]
  channels: string[]
  regions: string[]
  /** What a field is. */
  words: string
}

type Offered = components['schemas']['Offered']

export function rowsOf(there: components['schemas']['HandOver']): Row[] {
  const told = (x: Offered) => [x.name, x.flow, x.quality, x.result].join(' ')
  const alike = (x: Offered) => there.offered.filter((y) => told(y) === told(x)).length
  const runs = there.offered.map((x): Row => ({
    id: `${x.run}.${x.result}`,
    test: `${x.flow}-${x.quality}-${x.result}`,
    run: x.run,
    result: x.result,
    sort: 'run',
    name: x.name || x.flow,
    quality: alike(x) > 1 ? `${x.quality}, begun ${toMinute(x.created)}` : x.quality,
    label: x.label,
    done: x.state === 'done',
    first: x.first,
    last: x.last,
    still: false,
    formats: x.formats,
    channels: x.channels,
    regions: [],
    words: '',
  }))
  const things = there.things.map((x): Row => ({
    id: `${x.sort} ${x.id}`,
    test: `${x.sort}-${x.id}`,
    run: '',
    result: x.id,
    sort: x.sort,
    name: x.name || x.id,
    quality: '',
    label: x.sort,
    done: true,
    first: x.first,
    last: x.last,
    still: x.still,
    formats: x.formats,
    channels: [],
    regions: x.regions,
    words: x.words,
  }))
  return [...runs, ...things]
}

export const chosenOf = (x: Row): Chosen => ({ format: x.formats[0], channels: [], region: x.regions[0] ?? '' })

/** A row as the server is told of it. */
export const itemOf = (x: Row, c: Chosen) => ({
  run: x.run,
  result: x.sort === 'field' ? `${x.result}@${c.region}` : x.result,
  format: c.format,
  channels: c.channels,
})

export type Choices = Required<Options>

/** Who writes: the workers of a cluster where there is one, or the server's machine. */
export type Place = NonNullable<components['schemas']['OrderIn']['place']>

export const usual = (): Choices => ({
  first: null,
  last: null,
  step: 1,
  number: null,
  pattern: '{flow}/{flow}_{result}.{frame}',
  padding: 4,
  up: 'Z',
  unit: 'm',
  per: 'second',
  velocity: 'motion',
  half: false,
  compression: 'blosc',
  stage: true,
})
