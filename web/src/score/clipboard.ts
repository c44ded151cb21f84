/** Copying, pasting, duplicating, wrapping and removing steps: of the marked ones, or the selected one. */
import type { Lane, Step, StudyDoc } from '../api/model'
import { FIELD } from '../stores/catalogue'
import { useDesk } from '../stores/desk'
import { freshId } from '../lib/fresh'
import { useStudy } from '../stores/study'

const KEY = 'gust.steps'

const laneIn = (d: StudyDoc, id: string): Lane | undefined => [...d.fields, ...d.flows].find((l) => l.id === id)
const say = (text: string) => {
  const desk = useDesk()
  desk.told = text
  window.setTimeout(() => {
    if (desk.told === text) desk.told = ''
  }, 2500)
}

/** The steps an action is about, in the order of their lane; all of one lane. */
function chosen(): { lane: string; ids: string[] } | null {
  const study = useStudy()
  const s = study.selection
  const names = [...useDesk().marked]
  if (!names.length && s?.kind !== 'step') return null
  const lane = names.length ? names[0].split('/')[0] : (s as { lane: string }).lane
  const wanted = new Set(
    names.length
      ? names.filter((n) => n.startsWith(`${lane}/`)).map((n) => n.split('/')[1])
      : [(s as { id: string }).id],
  )
  const steps = study.laneOf(lane)?.steps ?? []
  return { lane, ids: steps.filter((x) => wanted.has(x.id)).map((x) => x.id) }
}
export function mark(lane: string, id: string) {
  const name = `${lane}/${id}`
  const next = new Set([...useDesk().marked].filter((n) => n.startsWith(`${lane}/`)))
  if (next.has(name)) next.delete(name)
  else next.add(name)
  useDesk().marked = next
}
export function copy(): boolean {
  const study = useStudy()
  const what = chosen()
  if (!what) return false
  const lane = study.laneOf(what.lane)!
  const steps = lane.steps.filter((s) => what.ids.includes(s.id))
  localStorage.setItem(KEY, JSON.stringify({ kind: lane.kind ?? FIELD, steps }))
  say(`copied ${steps.length === 1 ? study.entry(steps[0].op, what.lane)?.label : `${steps.length} steps`}`)
  return true
}
export function cut() {
  if (copy()) remove('Cut')
}
export function paste() {
  const study = useStudy()
  const text = localStorage.getItem(KEY)
  const s = study.selection
  const lane = s?.kind === 'step' ? s.lane : s?.kind === 'lane' ? s.id : null
  if (!text || !lane) {
    say(text ? 'choose a lane to paste into' : 'nothing has been copied')
    return
  }
  const held = JSON.parse(text) as { kind: string; steps: Step[] }
  const kind = study.laneOf(lane)?.kind ?? FIELD
  if (held.kind !== kind) {
    say(`these are steps of a ${held.kind} lane`)
    return
  }
  insert(
    lane,
    held.steps,
    s?.kind === 'step' ? s.id : null,
    `Paste ${held.steps.length === 1 ? study.entry(held.steps[0].op, lane)?.label : `${held.steps.length} steps`}`,
  )
}
export function duplicate() {
  const study = useStudy()
  const what = chosen()
  if (!what?.ids.length) return
  const steps = study.laneOf(what.lane)!.steps.filter((s) => what.ids.includes(s.id))
  insert(
    what.lane,
    steps,
    what.ids.at(-1)!,
    `Duplicate ${steps.length === 1 ? study.entry(steps[0].op, what.lane)?.label : `${steps.length} steps`}`,
  )
}
function insert(lane: string, steps: Step[], after: string | null, label: string) {
  const study = useStudy()
  const made: Step[] = []
  study.edit(label, (d) => {
    const into = laneIn(d, lane)!
    const taken = into.steps.map((s) => s.id)
    for (const step of steps) {
      const id = freshId(step.op, taken)
      taken.push(id)
      made.push({ ...structuredClone(step), id })
    }
    const at = after ? into.steps.findIndex((s) => s.id === after) + 1 : into.steps.length
    into.steps.splice(at, 0, ...made)
  })
  useDesk().marked = new Set()
  if (made.length) study.select({ kind: 'step', lane, id: made.at(-1)!.id })
}
export function remove(word = 'Remove') {
  const study = useStudy()
  const what = chosen()
  if (!what?.ids.length) return
  const label =
    what.ids.length === 1
      ? study.entry(study.laneOf(what.lane)!.steps.find((s) => s.id === what.ids[0])!.op, what.lane)?.label
      : `${what.ids.length} steps`
  study.edit(`${word} ${label}`, (d) => {
    const l = laneIn(d, what.lane)!
    l.steps = l.steps.filter((s) => !what.ids.includes(s.id))
  })
  useDesk().marked = new Set()
}
/** The first steps of a lane, up to the last marked one, become a lane of their own, and this lane begins with it. */
export function wrap() {
  const study = useStudy()
  const what = chosen()
  if (!what?.ids.length || study.isFlow(what.lane)) {
    say('only steps of a field lane can be wrapped')
    return
  }
  const lane = study.laneOf(what.lane)!
  const end = lane.steps.findIndex((s) => s.id === what.ids.at(-1)) + 1
  const id = freshId(
    `${lane.id}_part`,
    study.lanes.map((l) => l.id),
  )
  study.edit(`Wrap ${end === 1 ? 'a step' : `${end} steps`} of ${lane.name}`, (d) => {
    const from = d.fields.findIndex((l) => l.id === what.lane)
    const steps = d.fields[from].steps.splice(0, end)
    d.fields[from].steps.unshift({
      id: freshId(
        'use_field',
        d.fields[from].steps.map((s) => s.id),
      ),
      op: 'use_field',
      on: true,
      params: { field: id },
    })
    d.fields.splice(from, 0, { id, name: `${lane.name}, part`, steps })
  })
  useDesk().marked = new Set()
  study.select({ kind: 'lane', id })
}
