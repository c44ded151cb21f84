/** Runs on the shelf, as the server tells of them. */
import { computed, onBeforeUnmount, onMounted, ref, type Ref } from 'vue'
import { call, ApiError } from '../api/client'
import type { components } from '../api/schema'

export type ShelfRun = components['schemas']['ShelfRun']
type Shelf = components['schemas']['Shelf']
export type ChangeOut = components['schemas']['ChangeOut']

const BUSY = ['running', 'waiting']
export const isBusy = (r: ShelfRun) => BUSY.includes(r.state)
const SOON = 1000
const LATER = 8000

/** What is on the shelf of a study, or of all; looked at again while the page is open, more often while a run goes. */
export function useShelf(study: Ref<string>) {
  const found = ref<Shelf | null>(null)
  const problem = ref('')
  let timer = 0
  async function load() {
    clearTimeout(timer)
    try {
      found.value = await call<Shelf>('GET', `/shelf?study=${encodeURIComponent(study.value)}`)
      problem.value = ''
    } catch (error) {
      problem.value = (error as Error).message
    }
    clearTimeout(timer)
    timer = window.setTimeout(() => void load(), found.value?.runs.some(isBusy) ? SOON : LATER)
  }
  /** Do something and look again; what went wrong is told. */
  async function act(work: () => Promise<unknown>) {
    try {
      await work()
    } catch (error) {
      if (!(error instanceof ApiError) && !(error instanceof Error)) throw error
      await load()
      problem.value = error.message
      return false
    }
    await load()
    return true
  }
  onMounted(load)
  onBeforeUnmount(() => clearTimeout(timer))
  return { found, problem, load, act, runs: computed(() => found.value?.runs ?? []) }
}

export function stateWords(r: ShelfRun): string {
  if (r.state === 'waiting') return r.behind ? `waits behind ${r.behind}` : 'waits'
  if (r.state === 'running') return 'running'
  if (r.state === 'done') return 'all there'
  return r.message && r.state === 'failed' ? `failed: ${r.message}` : r.state
}
/** What its version changed, in words. */
export const changeWords = (r: ShelfRun) =>
  r.changes.length ? r.changes : [r.against ? 'the same version' : 'the first version']
