/** What the server lists, and the demo studies: what stores and components are tried on. */
import { createApp, h, nextTick, type Component, type SetupContext } from 'vue'
import { createVuetify } from 'vuetify'
import { getActivePinia } from 'pinia'
import type { Catalogue, StudyDoc } from '../src/api/model'
import { tip } from '../src/lib/tip'
import { useStudy } from '../src/stores/study'
import { doc, serve } from './setup'

/** Written by `./gust test` just before (`tests/told.py`). */
const [told] = Object.values(
  import.meta.glob<{ catalogue: Catalogue; demos: Record<string, StudyDoc> }>('../told.json', {
    eager: true,
    import: 'default',
  }),
)
export const REAL = told.catalogue
export const DEMOS = Object.entries(told.demos)

/** Steps that have parameters, each with its name. */
export const steps = REAL.steps.filter((e) => e.params.length).map((e) => [`${e.lane} ${e.id}`, e] as const)

const ball = { id: 'ball', name: 'Ball', kind: 'sphere', shown: true, params: {} }
const room = { id: 'room', name: 'Room', bounds: { lower: [0, 0, 0], upper: [1, 1, 1] }, voxel_size: 0.1 } as never
const wind = { id: 'wind', name: 'Wind', steps: [{ id: 'w', op: 'wind', on: true, params: {} }] }

/** A study with one step in a lane `own`. */
export function withStep(lane: string, op: string, params = {}): StudyDoc {
  const step = { id: 's', op, on: true, params }
  const own = { id: 'own', name: 'Own', steps: [step], ...(lane === 'field' ? {} : { kind: lane }) }
  const [fields, flows] = lane === 'field' ? [[wind, own], []] : [[wind], [own]]
  return doc({ shapes: [ball], regions: [room], fields, flows } as Partial<StudyDoc>)
}

/** A study that is open, with the real catalogue; what was saved of it. */
export async function opened(document: StudyDoc) {
  let revision = 1
  const out = (d: unknown) => ({ key: 's', document: d, revision: revision++, undo: null, redo: null })
  const calls = serve(({ method, path, body }) => {
    if (path === '/studies/s' && method === 'PUT') return { body: out(body!.document) }
    if (path === '/studies/s') return { body: out(structuredClone(document)) }
    return { status: 404, body: { message: 'not asked for here' } }
  }, REAL)
  const study = useStudy()
  await study.load('s')
  return { study, calls, saved: () => calls.filter((c) => c.method === 'PUT' && c.path === '/studies/s') }
}

const vuetify = createVuetify()
const link = {
  props: ['to'],
  setup:
    (_: unknown, { slots }: SetupContext) =>
    () =>
      h('a', slots.default?.()),
}

/** A component on a page, as the application mounts it; taken away by `end`. */
export async function mounted(component: Component, props: Record<string, unknown>) {
  const host = document.body.appendChild(document.createElement('div'))
  const app = createApp({ render: () => h(component, props) })
  const faults: unknown[] = []
  app.config.errorHandler = (error) => faults.push(error)
  app.config.warnHandler = (words) => faults.push(words)
  app.use(getActivePinia()!).use(vuetify).directive('tip', tip).component('RouterLink', link).mount(host)
  await nextTick()
  const find = (id: string) => host.querySelector<HTMLElement>(`[data-testid="${id}"]`)
  return {
    host,
    faults,
    find,
    /** The field that is typed into. */
    field: (id: string) => {
      const found = find(id)!
      return (found instanceof HTMLInputElement ? found : found.querySelector('input'))!
    },
    end() {
      app.unmount()
      host.remove()
    },
  }
}
/** Type into a field and press Enter. */
export async function typed(field: HTMLInputElement, text: string) {
  field.focus()
  await nextTick()
  field.value = text
  field.dispatchEvent(new Event('input'))
  await nextTick()
  field.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }))
  field.blur()
  await nextTick()
}
