/** The inspector: what depends on a choice is shown where it applies, and everything of the demos has a form. */
import { nextTick } from 'vue'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Entry, Lane } from '../src/api/model'
import InspectorPanel from '../src/inspector/InspectorPanel.vue'
import { DEMOS, mounted, opened, REAL, steps, withStep } from './real'

// nothing is looked at: what is asked for on a channel would be answered to a store of a test before
vi.mock('../src/api/client', async (original) => ({
  ...(await original<object>()),
  newest: () => Promise.resolve(null),
  newestArrays: () => Promise.resolve(null),
}))

beforeEach(() => {
  vi.useFakeTimers() // what a test before would still save is not saved in this one
  localStorage.clear()
})

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
