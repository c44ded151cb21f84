/** What steps are to shapes: some bring in what is carried, some stand in its way. */
import type { Entry, Params, StudyDoc } from '../api/model'
import { useCatalogue } from '../stores/catalogue'

export type Role = 'emits' | 'blocks'

/** Shapes that a step names in a role. */
export function namedIn(entry: Entry | undefined, params: Params, role: Role): string[] {
  return (entry?.roles[role] ?? []).flatMap((name) => (params[name] ?? []) as string | string[]).filter(Boolean)
}
/** Shapes that steps of a role name, of lanes that `fits` takes. */
export function shapesThat(doc: StudyDoc, role: Role, fits: (lane: string) => boolean = () => true): Set<string> {
  const listed = useCatalogue()
  const lanes = [...doc.fields, ...doc.flows].filter((lane) => fits(lane.id))
  return new Set(
    lanes.flatMap((lane) =>
      lane.steps.filter((s) => s.on).flatMap((s) => namedIn(listed.step(s.op, lane), s.params, role)),
    ),
  )
}
