/** Linking by picking: one parameter waits until another one with a number is chosen on the screen. */
import { ref } from 'vue'
import type { ParamSpec } from '../api/types'
import { useStudy, type Selection } from '../stores/study'

export const waiting = ref<{ owner: Selection; spec: ParamSpec } | null>(null)

/** The path of a parameter as links name it. */
export function pathOf(owner: Selection, name: string): string | null {
  if (owner?.kind === 'step') return `${useStudy().isFlow(owner.lane) ? 'flows' : 'fields'}.${owner.lane}.${owner.id}.${name}`
  if (owner?.kind === 'shape') return `shapes.${owner.id}.${name}`
  return null
}
/** Link the waiting parameter to a path; nothing if it is its own. */
export function linkTo(path: string, words: string) {
  const study = useStudy()
  const from = waiting.value
  if (!from) return
  waiting.value = null
  if (pathOf(from.owner, from.spec.name) === path) return
  study.setParam(from.owner, from.spec, { link: path }, `→ link to ${words}`)
  study.select(from.owner)
}
