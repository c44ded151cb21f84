/** Requests that somebody waits for: what went wrong with the last, and what the server is at meanwhile. */
import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import { ApiError, call } from '../api/client'

const LOOKS = 350 // milliseconds between looks at what is being computed

export const useWorking = defineStore('working', () => {
  const problem = ref('')
  /** Asks once more for what took too long; null if nothing did. */
  const again = shallowRef<(() => void) | null>(null)
  /** Steps that the server is solving or baking, by place, and how far they are; asked for only while something
   * waits. */
  const working = ref<Record<string, number>>({})
  let waiting = 0
  let asking = 0
  async function ask() {
    if (!waiting) {
      working.value = {}
      asking = 0
      return
    }
    working.value = await call<Record<string, number>>('GET', '/look/working').catch(() => ({}))
    asking = window.setTimeout(() => void ask(), LOOKS)
  }
  /** Do something that asks the server; a failure is told, not thrown. */
  async function guarded(work: () => Promise<void>) {
    waiting++
    if (!asking) asking = window.setTimeout(() => void ask(), LOOKS)
    try {
      await work()
      problem.value = ''
      again.value = null
    } catch (error) {
      problem.value = (error as Error).message
      again.value = error instanceof ApiError && error.status === 503 ? () => void guarded(work) : null
    } finally {
      waiting--
    }
  }
  return { problem, again, working, guarded }
})
