/** What a user chooses of a delivery. */
import type { components } from '../api/schema'

type Options = components['schemas']['OptionsIn']

/** A result that is handed over: its format, and the channels that are wanted, all if none is named. */
export interface Chosen {
  format: string
  channels: string[]
}

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
