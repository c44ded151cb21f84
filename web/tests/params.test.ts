/** Every parameter of every step, shape, look and of the light has a form that shows it and takes another value. */
import { nextTick } from 'vue'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Entry, Lane, ParamSpec, StudyDoc } from '../src/api/model'
import InspectorPanel from '../src/inspector/InspectorPanel.vue'
import ParamRow from '../src/inspector/ParamRow.vue'
import { rawWords } from '../src/score/words'
import type { useStudy } from '../src/stores/study'
import { doc } from './setup'
import { DEMOS, mounted, opened, REAL, typed } from './real'

// nothing is looked at: what is asked for on a channel would be answered to a store of a test before
vi.mock('../src/api/client', async (original) => ({
  ...(await original<object>()),
  newest: () => Promise.resolve(null),
  newestArrays: () => Promise.resolve(null),
}))

const ball = { id: 'ball', name: 'Ball', kind: 'sphere', shown: true, params: {} }
const room = { id: 'room', name: 'Room', bounds: { lower: [0, 0, 0], upper: [1, 1, 1] }, voxel_size: 0.1 } as never
const wind = { id: 'wind', name: 'Wind', steps: [{ id: 'w', op: 'wind', on: true, params: {} }] }
const every = REAL.steps.flatMap((e) => e.params.map((p) => [`${e.lane} ${e.id} ${p.name}`, e, p] as const))

function withStep(lane: string, op: string, params = {}): StudyDoc {
  const step = { id: 's', op, on: true, params }
  const own = { id: 'own', name: 'Own', steps: [step], ...(lane === 'field' ? {} : { kind: lane }) }
  const [fields, flows] = lane === 'field' ? [[wind, own], []] : [[wind], [own]]
  return doc({ shapes: [ball], regions: [room], fields, flows } as Partial<StudyDoc>)
}
type Study = ReturnType<typeof useStudy>
const stepOf = (d: StudyDoc) => [...d.fields, ...d.flows].find((l) => l.id === 'own')!.steps[0]

beforeEach(() => {
  vi.useFakeTimers() // what a test before would still save is not saved in this one
  localStorage.clear()
})

/** A number within the range of a parameter that is not its default. */
function another(p: ParamSpec): number {
  const [low, high] = p.range
  const at = typeof p.default === 'number' ? p.default : 1
  const tried = [at + 1, at - 1, at * 0.75, at / 2 + 0.01, (low ?? 0) + ((high ?? 10) - (low ?? 0)) * 0.37]
  const fits = (v: number) => (low === null || v > low) && (high === null || v <= high) && v !== at
  return tried.map((v) => (p.type === 'integer' ? Math.round(v) : Number(v.toPrecision(4)))).find(fits)!
}
const steps = REAL.steps.filter((e) => e.params.length).map((e) => [`${e.lane} ${e.id}`, e] as const)
const isNumber = (p: ParamSpec) => ['number', 'integer'].includes(p.type)

describe('rows of parameters', () => {
  it('are there for all of them', () => expect(every.length).toBeGreaterThan(500))

  it.each(steps)(
    'of %s say what they are, take another number in one edit, and refuse what is beyond',
    async (_, entry) => {
      const { study } = await opened(withStep(entry.lane, entry.id))
      const owner = { kind: 'step', lane: 'own', id: 's' }
      for (const spec of entry.params) {
        const page = await mounted(ParamRow, { spec, raw: undefined, owner })
        expect(page.host.textContent).toContain(spec.label)
        expect(rawWords(spec.default, spec, study.doc).length + spec.help.length).toBeGreaterThan(0)
        if (isNumber(spec) && spec.default !== null) await numberIsTyped(page, spec, study)
        expect(page.faults).toEqual([])
        page.end()
      }
    },
  )
})

async function numberIsTyped(page: Awaited<ReturnType<typeof mounted>>, spec: ParamSpec, study: Study) {
  if (spec.unit !== 'as the field') expect(page.host.textContent).toContain(spec.unit)
  const field = page.field(`number-${spec.name}`)
  const [wanted, [low, high]] = [another(spec), spec.range]
  await typed(field, String(wanted))
  const kept = () => stepOf(study.doc!).params[spec.name]
  expect(kept(), spec.name).toBeCloseTo(wanted, 6)
  for (const bad of [...(low !== null ? [low - 1] : []), ...(high !== null ? [high + 1] : []), 'seven']) {
    await typed(field, String(bad))
    expect(page.host.querySelector('[role=alert]'), `${spec.name} ${bad}`).not.toBeNull()
    expect(field.getAttribute('aria-invalid')).toBe('true')
  }
  expect(kept(), spec.name).toBeCloseTo(wanted, 6)
}

/** Choices that others depend on, and on nothing else. */
const decidedBy = (e: Entry, name: string) =>
  e.params.filter((p) => p.when && name in p.when && Object.keys(p.when).length === 1 && !p.group)
const choosing = steps.filter(([, e]) => e.params.some((p) => p.type === 'choice' && decidedBy(e, p.name).length))

describe('what depends on a choice', () => {
  it.each(choosing)('of %s is shown where it applies and nowhere else', async (_, entry) => {
    const { study } = await opened(withStep(entry.lane, entry.id))
    const owner = { kind: 'step', lane: 'own', id: 's' } as const
    study.select(owner)
    const page = await mounted(InspectorPanel, { tall: false })
    for (const spec of entry.params.filter((p) => p.type === 'choice' && decidedBy(entry, p.name).length)) {
      for (const choice of spec.choices) {
        study.setParam(owner, spec, choice, choice)
        await nextTick()
        for (const other of decidedBy(entry, spec.name)) {
          const applies = [other.when![spec.name]].flat().map(String).includes(choice)
          expect(!!page.find(`param-${other.name}`), `${other.name} with ${choice}`).toBe(applies)
        }
      }
      study.setParam(owner, spec, undefined, 'to its default')
    }
    expect(page.faults).toEqual([])
    page.end()
  })
})

describe('the inspector', () => {
  const seen = new Set<string>()
  it.each(DEMOS)('of %s shows every step, shape and region of it', async (_, document) => {
    const { study } = await opened(structuredClone(document))
    for (const lane of [...document.fields, ...document.flows] as Lane[])
      for (const step of lane.steps) {
        if (seen.has(`${lane.kind} ${step.op}`)) continue // as in another demo
        seen.add(`${lane.kind} ${step.op}`)
        study.select({ kind: 'step', lane: lane.id, id: step.id })
        const page = await mounted(InspectorPanel, { tall: false })
        const entry = REAL.steps.find((e) => e.id === step.op && e.lane === (lane.kind ?? 'field'))!
        expect(page.find('inspector-title')!.textContent).toBe(entry.label)
        expect(page.faults, step.op).toEqual([])
        page.end()
      }
    for (const { id, name } of document.shapes) {
      study.select({ kind: 'shape', id })
      const page = await mounted(InspectorPanel, { tall: false })
      expect(page.host.querySelector('input')!.value).toBe(name)
      expect(page.faults, name).toEqual([])
      page.end()
    }
    for (const { id } of document.regions) {
      study.select({ kind: 'region', id })
      const page = await mounted(InspectorPanel, { tall: false })
      expect(page.faults, id).toEqual([])
      page.end()
    }
  })
})
