/** Flipbooks that the server draws from runs, without the view: begun, followed, stopped, gone on with. */
import { computed, onBeforeUnmount, ref } from 'vue'
import { call } from '../../api/client'
import type { components } from '../../api/schema'

export type Made = components['schemas']['FlipbookOut']
export type Progress = components['schemas']['FilmProgress']
export type Unfinished = components['schemas']['Unfinished']
type Order = components['schemas']['DrawnIn']

/** How often it is asked how far it is. */
const EACH = 300

export function useLit(key: () => string) {
  const base = () => `/studies/${key()}/flipbooks`
  const id = ref('')
  const first = ref(0)
  const told = ref<Progress | null>(null)
  const problem = ref('')
  const left = ref<Unfinished[]>([])
  let gone = false
  onBeforeUnmount(() => (gone = true))

  const going = computed(() => !!told.value?.going)
  /** The picture that was drawn last, to look at meanwhile. */
  const newest = computed(() =>
    told.value && told.value.drawing && told.value.done && !told.value.film
      ? `/api${base()}/${id.value}/frames/${first.value + told.value.done - 1}`
      : '',
  )
  const listed = async () => void (left.value = await call<Unfinished[]>('GET', `${base()}-unfinished`))
  async function follow() {
    while (told.value?.going && !gone) {
      await new Promise((next) => setTimeout(next, EACH))
      if (gone) return
      told.value = await call<Progress>('GET', `${base()}/${id.value}`)
    }
    await listed()
  }
  /** Whatever goes wrong is told, and what is drawn stays. */
  async function doing(work: () => Promise<void>) {
    problem.value = ''
    try {
      await work()
      await follow()
    } catch (error) {
      problem.value = (error as Error).message
      told.value = null
      await listed().catch(() => undefined)
    }
  }
  const draw = (order: Order) =>
    doing(async () => {
      told.value = null
      id.value = (await call<{ id: string }>('POST', `${base()}-drawn`, order)).id
      first.value = order.first
      told.value = await call<Progress>('GET', `${base()}/${id.value}`)
    })
  const goOn = (one: Unfinished) =>
    doing(async () => {
      id.value = one.id
      first.value = one.first
      told.value = await call<Progress>('POST', `${base()}/${one.id}/go-on`)
    })
  const stop = async () => void (told.value = await call<Progress>('POST', `${base()}/${id.value}/stop`))
  const forget = async (one: Unfinished) => {
    await call('DELETE', `${base()}/${one.id}`)
    if (one.id === id.value) told.value = null
    await listed()
  }
  return { told, problem, left, going, newest, id, draw, goOn, stop, forget, listed }
}
