/** Requests that somebody waits for: what went wrong with the last, and what the server is at meanwhile. */
import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'
import { ApiError, asked } from '../api/client'

const LOOKS = 350 // milliseconds between looks at what is being computed

export const useWorking = defineStore('working', () => {
  const problem = ref('')
  /** What took too long and was given up, by what it is, and its words. */
  const late = shallowRef<Record<string, { words: string; work: () => Promise<void> }>>({})
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
    working.value = await asked<Record<string, number>>('GET', '/look/working').catch(() => ({}))
    asking = window.setTimeout(() => void ask(), LOOKS)
  }
  /** Do something that asks the server; a failure is told, not thrown. */
  async function guarded(what: string, work: () => Promise<void>) {
    waiting++
    if (!asking) asking = window.setTimeout(() => void ask(), LOOKS)
    try {
      await work()
      problem.value = ''
      const { [what]: _, ...rest } = late.value
      if (_) late.value = rest
    } catch (error) {
      const words = (problem.value = (error as Error).message)
      if (error instanceof ApiError && error.status === 503) late.value = { ...late.value, [what]: { words, work } }
    } finally {
      waiting--
    }
  }
  /** Ask once more for all that took too long. */
  function again() {
    const all = Object.entries(late.value)
    late.value = {}
    for (const [what, { work }] of all) void guarded(what, work)
  }
  return { problem, late, again, working, guarded }
})
