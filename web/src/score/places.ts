/** Places in a study as the score shows them: `Particles ▸ Carry ▸ Field` in place of `flows.dust.s1.field`. */
import { useStudy } from '../stores/study'

const PATH = /\b(fields|flows|shapes|regions)\.([a-z][a-z0-9_]*)((?:\.[a-z][a-z0-9_]*)*)/g

/** The words of a path; the path itself if nothing is called so. */
export function placeWords(path: string): string {
  const study = useStudy()
  const [kind, id, ...rest] = path.split('.')
  const d = study.doc
  if (!d) return path
  if (kind === 'shapes' || kind === 'regions') {
    const part = d[kind].find((p) => p.id === id)
    if (!part) return path
    const known = 'kind' in part ? study.shapeEntry(part.kind)?.params.find((p) => p.name === rest[0]) : undefined
    return [part.name, known?.label ?? spoken(rest[0])].filter(Boolean).join(' ▸ ')
  }
  const lane = study.laneOf(id)
  if (!lane) return path
  const step = lane.steps.find((s) => s.id === rest[0])
  const entry = step && study.entry(step.op, id)
  const param = entry?.params.find((p) => p.name === rest[1])
  const names = step ? [entry?.label ?? step.op, param?.label ?? spoken(rest[1])] : [spoken(rest[0])]
  return [lane.name, ...names].filter(Boolean).join(' ▸ ')
}
const spoken = (name: string | undefined) => (name ? name.replace(/_/g, ' ').replace(/^./, (c) => c.toUpperCase()) : '')

/** A message with the user's own names: of paths, and of lanes and parts that it quotes by their ids. */
export function inNames(text: string): string {
  const study = useStudy()
  const parts = [...study.lanes, ...(study.doc?.shapes ?? []), ...(study.doc?.regions ?? [])]
  return text
    .replace(PATH, (path) => placeWords(path))
    .replace(/'([a-z][a-z0-9_]*)'/g, (quoted, id) => {
      const found = parts.find((p) => p.id === id)
      return found && found.name !== id ? `'${found.name}'` : quoted
    })
}
