/** Looks: words of their choices, and what else changes when one thing does. */
import type { FlowLook, Raw } from '../api/model'

/** Another channel is fitted to its own range, and a direction goes around a circle of colours. */
export function tidied(look: Record<string, Raw>, changed: string): Partial<FlowLook> {
  if (changed !== 'colour') return look as Partial<FlowLook>
  const cyclic = look.colour === 'direction'
  const map = cyclic ? 'cyclic' : look.map === 'cyclic' ? 'sequential' : look.map
  return { ...look, low: null, high: null, ...(map ? { map } : {}) } as Partial<FlowLook>
}

const WORDS: Record<string, string> = {
  sequential: 'sea to sun',
  heat: 'black body',
  diverging: 'below and above',
  cyclic: 'around the circle',
  mix: 'two colours',
  additive: 'glowing (additive)',
  opaque: 'flat',
  lit: 'lit grains',
}
/** A choice of a look as it is shown. */
export const choiceWords = (choice: string) => WORDS[choice] ?? choice
