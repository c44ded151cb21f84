/** What is going on at the desk itself: what is under the pointer, marked, folded, open. */
import { defineStore } from 'pinia'
import { ref } from 'vue'
import type { ParamSpec } from '../api/model'
import type { Selection } from './study'

export const useDesk = defineStore('desk', () => {
  /** The lane whose use is under the pointer, so that both light up. */
  const hoveredLane = ref('')
  /** Where the menu of a step card is open, if it is. */
  const cardMenu = ref<{ x: number; y: number } | null>(null)
  /** Folded lanes as `study/lane`. */
  const foldedLanes = ref(new Set<string>())
  /** The lane whose list of steps is asked to open (key A). */
  const opener = ref('')
  /** Marked steps as `lane/step`. */
  const marked = ref(new Set<string>())
  /** What has just been done, for a moment. */
  const told = ref('')
  /** What the browser has taken away, and where it is. */
  const taken = ref('')
  /** A parameter that waits until another one with a number is chosen on the screen. */
  const waiting = ref<{ owner: Selection; spec: ParamSpec } | null>(null)
  return { hoveredLane, cardMenu, foldedLanes, opener, marked, told, taken, waiting }
})
