/** The lane whose use is under the pointer, so that both light up. */
import { ref } from 'vue'

export const hoveredLane = ref('')
/** Where the menu of a step card is open, if it is. */
export const cardMenu = ref<{ x: number; y: number } | null>(null)
/** Folded lanes as `study/lane`; a view of this window, not part of the study. */
export const foldedLanes = ref(new Set<string>())
