/** Runs on the shelf, as the server tells of them. */
import { computed, onBeforeUnmount, onMounted, ref, type Ref } from 'vue'
import { call, ApiError } from '../api/client'
import type { components } from '../api/schema'
import { followAll } from '../lib/events'

export type ShelfRun = components['schemas']['ShelfRun']
type Shelf = components['schemas']['Shelf']
export type ChangeOut = components['schemas']['ChangeOut']

const BUSY = ['running', 'waiting']
export const isBusy = (r: ShelfRun) => BUSY.includes(r.state)

/** What is on the shelf of a study, or of all; looked at again whenever the server says that something changed. */
export function useShelf(study: Ref<string>) {
  const found = ref<Shelf | null>(null)
  const problem = ref('')
  /** How many runs are asked for: more when somebody wants to see them. */
  const most = ref(200)
  let loading = false
  let again = false
  let unfollow = () => {}
  async function load() {
    if (loading) {
      again = true
      return
    }
    loading = true
    try {
      found.value = await call<Shelf>('GET', `/shelf?study=${encodeURIComponent(study.value)}&most=${most.value}`)
      problem.value = ''
    } catch (error) {
      problem.value = (error as Error).message
    }
    loading = false
    if (again) {
      again = false
      await load()
    }
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
  onMounted(() => {
    void load()
    unfollow = followAll(() => void load())
  })
  onBeforeUnmount(() => unfollow())
  async function more() {
    most.value *= 5
    await load()
  }
  return { found, more, problem, load, act, runs: computed(() => found.value?.runs ?? []) }
}

export function stateWords(r: ShelfRun): string {
  if (r.state === 'waiting') return r.message ? `waits: ${r.message}` : r.behind ? `waits behind ${r.behind}` : 'waits'
  if (r.state === 'running') return r.message || 'running'
  if (r.state === 'done') return 'all there'
  return r.message && r.state === 'failed' ? `failed: ${r.message}` : r.state
}
/** What its version changed, in words. */
export const changeWords = (r: ShelfRun) =>
  r.changes.length ? r.changes : [r.against ? 'the same version' : 'the first version']
