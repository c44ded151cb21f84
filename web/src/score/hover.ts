/** The lane whose use is under the pointer, so that both light up. */
import { ref } from 'vue'

export const hoveredLane = ref('')
