/** The open study: its document, edits that save themselves, undo, selection. */
import { defineStore } from 'pinia'
import { computed, onScopeDispose, ref, shallowRef } from 'vue'
import { ApiError, Offline, call } from '../api/client'
import type { Lane, ParamSpec, Raw, Region, Step, StudyDoc, StudyOut } from '../api/model'
import { tidied } from '../kinds/looks'
import { useCatalogue } from './catalogue'
import { afterwards, callOff } from '../lib/rest'
import { standing } from '../lib/standing'

export type Selection =
  { kind: 'step'; lane: string; id: string } | { kind: 'shape' | 'region' | 'lane'; id: string } | null
/** Whose parameters are changed: those of what is selected, or the look of a flow. */
export type Owner = Selection | { kind: 'look'; id: string }
export type SaveState = 'saved' | 'saving' | 'unsaved' | 'offline' | 'conflict' | 'refused'

export const useStudy = defineStore('study', () => {
  const key = ref('')
  const doc = shallowRef<StudyDoc | null>(null)
  const revision = ref(0)
  const undoLabel = ref<string | null>(null)
  const redoLabel = ref<string | null>(null)
  const state = ref<SaveState>('saved')
  const message = ref('')
  const theirs = shallowRef<{ document: StudyDoc; revision: number } | null>(null)
  const selection = ref<Selection>(null)
  const listed = useCatalogue()
  const savedCount = ref(0)
  /** Edits not saved yet, each a revision of its own; a drag of one parameter is one edit. What they do is kept beside
   * what came of it, to be done again on what an undo that was under way brings. */
  let queue: {
    at: number
    label: string
    subject: string
    document: StudyDoc
    changes: ((d: StudyDoc) => void)[]
  }[] = []
  let edits = 0
  /** The last edit before the last undo: what follows is an edit of its own. */
  let parted = 0
  let timer = 0
  let pressed = false
  window.addEventListener(
    'pointerdown',
    () => {
      pressed = true
    },
    { capture: true },
  )
  for (const end of ['pointerup', 'pointercancel', 'blur'])
    window.addEventListener(
      end,
      () => {
        pressed = false
      },
      { capture: true },
    )
  onScopeDispose(() => callOff(timer))
  /** All that this window does to the study is done one after another: two requests on one base are a conflict. */
  let last: Promise<unknown> = Promise.resolve()
  function inTurn<T>(work: () => Promise<T>): Promise<T> {
    const mine = last.then(work)
    last = mine.catch(() => undefined)
    return mine
  }

  function take(out: StudyOut, keepDocument = false) {
    key.value = out.key
    revision.value = out.revision
    undoLabel.value = out.undo
    redoLabel.value = out.redo
    if (!keepDocument) doc.value = queue.length ? rebased(out.document) : out.document
    savedCount.value++
  }
  /** What the edits that are not saved make of another document; one that makes nothing of it goes. */
  function rebased(on: StudyDoc): StudyDoc {
    let document = on
    queue = queue.flatMap((made) => {
      const copy = structuredClone(document)
      try {
        for (const change of made.changes) change(copy)
      } catch {
        return [] // its part is not there any more
      }
      document = copy
      return [{ ...made, document }]
    })
    return document
  }
  /** Open a study; `ready` is called just before it is shown, so that the first picture is the right one. */
  async function load(id: string, ready: (s: StudyOut) => void | Promise<void> = () => undefined) {
    doc.value = null
    selection.value = null
    await listed.load()
    await inTurn(async () => {
      if (!(await save(edits))) await putAside() // of the study before
      const found = await call<StudyOut>('GET', `/studies/${id}`)
      await ready(found)
      take(found)
      theirs.value = null
      state.value = 'saved'
    })
    const end = doc.value!.fields.at(-1)
    if (end?.steps.length)
      select({ kind: 'step', lane: end.id, id: end.steps.filter((s) => s.on).at(-1)?.id ?? end.steps[0].id })
  }

  /** Change the document; it is saved a moment later. Edits with the same subject that follow at once become one. */
  function edit(label: string, change: (d: StudyDoc) => void, subject = '') {
    if (!doc.value) return
    const copy = structuredClone(doc.value) as StudyDoc
    change(copy)
    doc.value = copy
    const before = queue.at(-1)
    edits++
    if (before && subject && before.subject === subject && before.at > parted)
      queue[queue.length - 1] = {
        at: edits,
        label: joined(before.label, label),
        subject,
        document: copy,
        changes: [...before.changes, change],
      }
    else queue.push({ at: edits, label, subject, document: copy, changes: [change] })
    if (state.value !== 'conflict') state.value = 'unsaved'
    soon()
  }
  /** Save after a short rest, and not while something is being dragged: a drag is one edit. */
  function soon() {
    callOff(timer)
    timer = afterwards(() => {
      if (pressed) soon()
      else void flush()
    }, 280)
  }
  /** Save what is not saved yet. */
  function flush(): Promise<void> {
    callOff(timer)
    const until = edits // what follows may follow an undo that waits for its turn
    return inTurn(async () => void (await save(until)))
  }
  /** Save the edits made until then; whether they are saved. */
  async function save(until: number): Promise<boolean> {
    const due = () => queue.length > 0 && queue[0].at <= until
    if (state.value === 'conflict') return false
    if (!due()) return true
    state.value = 'saving'
    try {
      while (due()) {
        const first = queue.shift()!
        try {
          take(
            await call<StudyOut>('PUT', `/studies/${key.value}`, {
              document: first.document,
              base: revision.value,
              label: first.label,
            }),
            true,
          )
        } catch (error) {
          queue.unshift(first)
          throw error
        }
      }
      state.value = queue.length ? 'unsaved' : 'saved'
      message.value = ''
      return true
    } catch (error) {
      if (error instanceof ApiError && error.status === 409) {
        conflicting(error)
      } else if (error instanceof Offline) {
        state.value = 'offline'
        message.value = error.message
        timer = window.setTimeout(() => void flush(), 1500)
      } else {
        queue = [] // a document that cannot be saved stays on the screen; the next edit carries what is right in it
        state.value = 'refused'
        message.value = (error as Error).message
      }
      return false
    }
  }
  function conflicting(error: ApiError) {
    theirs.value = { document: error.body.theirs as StudyDoc, revision: Number(error.body.revision) }
    state.value = 'conflict'
  }
  /** What is not saved becomes a study of its own beside. */
  async function putAside() {
    const mine = queue.at(-1)
    const base = theirs.value?.revision ?? revision.value
    try {
      if (mine) await call('POST', `/studies/${key.value}/aside`, { document: mine.document, base, label: mine.label })
    } catch (error) {
      if (!(error instanceof ApiError)) throw error // the server is away: nothing is given up yet
      message.value = `What you had typed could not be kept: ${error.message}`
    }
    queue = []
  }
  const resolve = (keep: 'mine' | 'theirs') =>
    inTurn(async () => {
      if (!theirs.value) return
      revision.value = theirs.value.revision
      if (keep === 'theirs') {
        await putAside()
        take(await call<StudyOut>('GET', `/studies/${key.value}`))
        state.value = 'saved'
      } else {
        state.value = 'unsaved'
      }
      theirs.value = null
      await save(edits)
    })
  /** A change that the server makes, after the edits before it; if somebody else saved in between, it is asked whose
   * is kept. Edits that follow are made on what comes of it. */
  function changed(may: () => boolean, make: () => Promise<StudyOut>) {
    const until = (parted = edits)
    callOff(timer)
    return inTurn(async () => {
      if (!(await save(until)) || !may()) return
      const before = state.value
      state.value = 'saving'
      try {
        take(await make())
        state.value = queue.length ? 'unsaved' : 'saved'
      } catch (error) {
        state.value = before
        if (!(error instanceof ApiError) || error.status !== 409) throw error
        conflicting(error)
      }
      if (selection.value && !selectedPart.value) selection.value = null
    })
  }
  const step = (direction: 'undo' | 'redo') =>
    changed(
      () => !!(direction === 'undo' ? undoLabel.value : redoLabel.value),
      () => call<StudyOut>('POST', `/studies/${key.value}/${direction}?base=${revision.value}`),
    )
  /** Bring an old revision back as a new one; undo takes it away again. */
  const restore = (revisionId: number) =>
    changed(
      () => true,
      () => call<StudyOut>('POST', `/studies/${key.value}/restore/${revisionId}?base=${revision.value}`),
    )

  const lanes = computed<Lane[]>(() => (doc.value ? [...doc.value.fields, ...doc.value.flows] : []))
  const laneOf = (id: string) => lanes.value.find((l) => l.id === id)
  const isFlow = (id: string) => !!doc.value?.flows.some((l) => l.id === id)
  const entry = (op: string, lane: string) => listed.step(op, laneOf(lane))
  const shapeEntry = (kind: string) => listed.shape(kind)
  const catalogue = computed(() => listed.all)
  const selectedStep = computed<Step | undefined>(() => {
    const s = selection.value
    return s?.kind === 'step' ? laneOf(s.lane)?.steps.find((t) => t.id === s.id) : undefined
  })
  const selectedLane = computed<Lane | undefined>(() => {
    const s = selection.value
    return s?.kind === 'step' ? laneOf(s.lane) : s?.kind === 'lane' ? laneOf(s.id) : undefined
  })
  const selectedPart = computed(() => {
    const s = selection.value
    if (!s || !doc.value) return undefined
    if (s.kind === 'step') return selectedStep.value
    if (s.kind === 'shape') return doc.value.shapes.find((x) => x.id === s.id)
    if (s.kind === 'region') return doc.value.regions.find((x) => x.id === s.id)
    return laneOf(s.id)
  })
  /** The lane that was worked on before the one that is selected. */
  const laneBefore = ref('')
  function select(s: Selection) {
    const [before, now] = [selection.value, s].map((x) =>
      x?.kind === 'step' ? x.lane : x?.kind === 'lane' ? x.id : '',
    )
    if (before && before !== now) laneBefore.value = before
    selection.value = s
  }

  /** The parameters of what is selected, whatever it is. */
  function setParam(
    owner: Owner,
    spec: Pick<ParamSpec, 'name' | 'label' | 'unit'>,
    value: Raw | undefined,
    words: string,
  ) {
    edit(
      `${ownerWords(owner)}${spec.label} ${words}`,
      (d) => {
        const params = paramsIn(d, owner)
        if (!params) return
        if (value === undefined) delete params[spec.name]
        else params[spec.name] = standing(d, value)
        if (owner?.kind === 'look') d.looks[owner.id] = tidied(params, spec.name)
      },
      `${JSON.stringify(owner)}.${spec.name}`,
    )
  }
  /** Whose parameter it is, for the history: `Gusts ▸ Wind ▸ `. */
  function ownerWords(owner: Owner): string {
    const said: (string | undefined)[] =
      owner?.kind === 'step'
        ? [laneOf(owner.lane)?.name, entryOf(owner)]
        : owner?.kind === 'shape'
          ? [doc.value?.shapes.find((s) => s.id === owner.id)?.name]
          : owner?.kind === 'look'
            ? [laneOf(owner.id)?.name ?? 'View', 'Look']
            : owner?.kind === 'region'
              ? [doc.value?.regions.find((r) => r.id === owner.id)?.name]
              : []
    return said.map((w) => (w ? `${w} ▸ ` : '')).join('')
  }
  const entryOf = (at: { lane: string; id: string }) => {
    const op = laneOf(at.lane)?.steps.find((s) => s.id === at.id)?.op
    return op && (entry(op, at.lane)?.label ?? op)
  }
  function paramsIn(d: StudyDoc, owner: Owner): Record<string, Raw> | undefined {
    if (!owner) return undefined
    if (owner.kind === 'step')
      return [...d.fields, ...d.flows].find((l) => l.id === owner.lane)?.steps.find((s) => s.id === owner.id)?.params
    if (owner.kind === 'shape') return d.shapes.find((s) => s.id === owner.id)?.params
    if (owner.kind === 'look') return { ...d.looks[owner.id] } as Record<string, Raw>
    if (owner.kind === 'region') return d.regions.find((r) => r.id === owner.id) as Record<string, Raw> | undefined
    return undefined
  }
  /** Set a parameter by its path in the study, as fixes name it. */
  function setPath(label: string, path: string, value: Raw) {
    edit(
      label,
      (d) => {
        const [kind, id, a, b] = path.split('.')
        if (kind === 'regions') {
          const region = d.regions.find((r) => r.id === id)
          if (region && a === 'voxel_size') region.voxel_size = value
          else if (region && a === 'over') region.over = value as Region['over']
          else if (region && a === 'padding') region.bounds.padding = value
        } else if (kind === 'shapes') {
          const shape = d.shapes.find((s) => s.id === id)
          if (shape) shape.params[a] = value
        } else {
          const lane = (kind === 'fields' ? d.fields : d.flows).find((l) => l.id === id)
          const target = lane?.steps.find((s) => s.id === a)
          if (target) target.params[b] = value
        }
      },
      path,
    )
  }
  return {
    key,
    doc,
    revision,
    undoLabel,
    redoLabel,
    state,
    message,
    theirs,
    selection,
    catalogue,
    lanes,
    selectedStep,
    selectedLane,
    laneBefore,
    selectedPart,
    savedCount,
    load,
    edit,
    flush,
    resolve,
    step,
    restore,
    laneOf,
    isFlow,
    entry,
    shapeEntry,
    select,
    setParam,
    setPath,
  }
})

/** The words of two edits of one thing: from where the first began to where the last ended. */
function joined(first: string, last: string): string {
  const [from] = first.split(' → ')
  const to = last.split(' → ')
  return to.length === 2 && first.includes(' → ') ? `${from} → ${to[1]}` : last
}
