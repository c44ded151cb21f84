/** Every parameter of every step, shape, look and of the light has a form that shows it and takes another value. */
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { ParamSpec, StudyDoc } from '../src/api/model'
import ParamRow from '../src/inspector/ParamRow.vue'
import { rawWords } from '../src/score/words'
import type { useStudy } from '../src/stores/study'
import { mounted, opened, REAL, steps, typed, withStep } from './real'

// nothing is looked at: what is asked for on a channel would be answered to a store of a test before
vi.mock('../src/api/client', async (original) => ({
  ...(await original<object>()),
  newest: () => Promise.resolve(null),
  newestArrays: () => Promise.resolve(null),
}))

const every = REAL.steps.flatMap((e) => e.params.map((p) => [`${e.lane} ${e.id} ${p.name}`, e, p] as const))
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
  const beyond = [...(low !== null ? [low - 1] : []), ...(high !== null ? [high + 1] : [])]
  for (const bad of beyond.length ? beyond : ['seven']) {
    await typed(field, String(bad))
    expect(page.host.querySelector('[role=alert]'), `${spec.name} ${bad}`).not.toBeNull()
    expect(field.getAttribute('aria-invalid')).toBe('true')
  }
  expect(kept(), spec.name).toBeCloseTo(wanted, 6)
}
