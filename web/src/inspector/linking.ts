/** Linking by picking: one parameter waits until another one with a number is chosen on the screen. */
import type { Link } from '../api/model'
import { useDesk } from '../stores/desk'
import { useStudy, type Selection } from '../stores/study'

/** The path of a parameter as links name it. */
export function pathOf(owner: Selection, name: string): string | null {
  if (owner?.kind === 'step')
    return `${useStudy().isFlow(owner.lane) ? 'flows' : 'fields'}.${owner.lane}.${owner.id}.${name}`
  if (owner?.kind === 'shape') return `shapes.${owner.id}.${name}`
  if (owner?.kind === 'region') return `regions.${owner.id}.${name}`
  return null
}
/** Link the waiting parameter to a path; nothing if it is its own. */
export function linkTo(path: string, words: string) {
  const study = useStudy()
  const desk = useDesk()
  const from = desk.waiting
  if (!from) return
  desk.waiting = null
  if (pathOf(from.owner, from.spec.name) === path) return
  study.setParam(from.owner, from.spec, { link: path } as Link, `→ link to ${words}`)
  study.select(from.owner)
}
