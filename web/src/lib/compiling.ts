/** Kernels that this machine has not compiled yet: the server answers meanwhile, and what needs one waits for it. */
import { shallowRef, watch } from 'vue'

export interface Compiling {
  /** From 0 to 1. */
  share: number
  /** Seconds, about; null as long as that is not known. */
  left: number | null
}
const EACH = 1000 // milliseconds between looks

/** What was told last; null when there is nothing to wait for. */
export const compiling = shallowRef<Compiling | null>(null)
let looking = 0

/** Look again and again until all are there. */
async function look() {
  try {
    const response = await fetch('/api/compiling')
    if (response.ok) compiling.value = (await response.json()) as Compiling | null
  } catch {
    /* the server has ended, or begins: whoever asks it for something else tells */
  }
  looking = compiling.value ? window.setTimeout(() => void look(), EACH) : 0
}
/** Ask once whether there is something to wait for; looks go on by themselves then. */
export function askCompiling() {
  if (!looking) {
    looking = 1
    void look()
  }
}
/** It was told with an answer: wait until all are there before the same is asked for again. */
export function untilCompiled(told: Compiling, signal?: AbortSignal): Promise<void> {
  compiling.value = told
  askCompiling()
  return new Promise((done, refuse) => {
    const stop = watch(compiling, (now) => {
      if (now) return
      stop()
      done()
    })
    signal?.addEventListener('abort', () => {
      stop()
      refuse(new DOMException('given up', 'AbortError'))
    })
  })
}
