/** What can be put into a study: steps, shapes and kinds of flow, as the server lists them. */
import { defineStore } from 'pinia'
import { computed, shallowRef } from 'vue'
import { call } from '../api/client'
import type {
  Catalogue,
  Entry,
  FlowLook,
  Form,
  KindEntry,
  Lane,
  LightLook,
  ParamSpec,
  ResultEntry,
  ShapeEntry,
  StudyDoc,
} from '../api/model'

/** Where a study keeps the light of its view: no lane can be called so. */
export const LIGHT = 'view-light'
/** The sort of lane that is no flow. */
export const FIELD = 'field'

export const useCatalogue = defineStore('catalogue', () => {
  const all = shallowRef<Catalogue>({ steps: [], shapes: [], kinds: [], light: [] })
  async function load() {
    if (!all.value.steps.length) all.value = await call<Catalogue>('GET', '/catalogue')
    return all.value
  }
  const kind = (id: string | undefined): KindEntry | undefined => all.value.kinds.find((k) => k.id === id)
  const kindOf = (lane: Lane | undefined) => kind(lane?.kind)
  const stepsOf = (lane: Lane) => all.value.steps.filter((e) => e.lane === (lane.kind ?? FIELD))
  const step = (op: string, lane: Lane | undefined): Entry | undefined =>
    all.value.steps.find((e) => e.id === op && e.lane === (lane?.kind ?? FIELD))
  const shape = (id: string): ShapeEntry | undefined => all.value.shapes.find((e) => e.id === id)
  /** Results that frames of a kind hold, the main one first. */
  const heldBy = (id: string | undefined): ResultEntry[] => kind(id)?.results.filter((r) => !r.from_study) ?? []
  /** Those of them that the view shows. */
  const resultsOf = (id: string | undefined): ResultEntry[] => heldBy(id).filter((r) => !r.aside)
  /** Forms of all that the view may show of a kind, what its lanes draw included; the main one first. */
  const formsOf = (id: string | undefined): Form[] => [
    ...new Set(kind(id)?.results.flatMap((r) => (r.aside ? [] : [r.form])) ?? []),
  ]
  const mainOf = (id: string | undefined): ResultEntry | undefined => resultsOf(id)[0]
  const offers = (id: string | undefined, form: Form | string) => heldBy(id).some((r) => r.form === form)
  /** Whether another part may take a form from a lane: lines and surfaces also where the lane draws them. */
  const provides = (id: string | undefined, form: Form | string) =>
    (['lines', 'mesh'].includes(form) ? (kind(id)?.results ?? []) : heldBy(id)).some((r) => r.form === form)
  const defaults = (specs: ParamSpec[]) => Object.fromEntries(specs.map((p) => [p.name, p.default]))
  /** Looks of all forms, for what stands alone (a difference of two runs). */
  const everyLook = computed(
    () => defaults(all.value.kinds.flatMap((k) => Object.values(k.looks).flat())) as unknown as FlowLook,
  )
  /** How a kind's results are drawn until somebody says otherwise. */
  function plainLook(id: string | undefined): FlowLook {
    const looks = kind(id)?.looks ?? {}
    const forms = [...formsOf(id)].reverse() // the main one has the last word
    return { ...everyLook.value, ...defaults(forms.flatMap((form) => looks[form] ?? [])) }
  }
  /** Light of the view as a study has it. */
  const lightOf = (doc: StudyDoc | null | undefined): LightLook => ({
    ...(defaults(all.value.light) as unknown as LightLook),
    ...(doc?.looks[LIGHT] as Partial<LightLook> | undefined),
  })
  return {
    all,
    lightOf,
    load,
    kind,
    kindOf,
    stepsOf,
    step,
    shape,
    heldBy,
    resultsOf,
    formsOf,
    mainOf,
    offers,
    provides,
    everyLook,
    plainLook,
  }
})
