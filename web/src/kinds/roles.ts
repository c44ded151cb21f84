/** What steps are to shapes: some bring in what is carried, some stand in its way. */
import type { StudyDoc } from '../api/model'
import { useCatalogue } from '../stores/catalogue'

export type Role = 'emits' | 'blocks'
/** Steps of fields that lead a flow around a shape. */
const LEADS = ['steer_around']

/** Shapes that steps of a role name, of lanes that `fits` takes. */
export function shapesThat(doc: StudyDoc, role: Role, fits: (lane: string) => boolean = () => true): Set<string> {
  const listed = useCatalogue()
  const found = new Set<string>()
  for (const lane of [...doc.fields, ...doc.flows])
    for (const step of lane.steps) {
      const plays = listed.step(step.op, lane)?.roles.includes(role) || (role === 'blocks' && LEADS.includes(step.op))
      if (!step.on || !plays || !fits(lane.id)) continue
      for (const id of [step.params.shape, step.params.shapes].flat()) if (typeof id === 'string') found.add(id)
    }
  return found
}
