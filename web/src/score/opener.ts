/** Asks the list of steps of a lane to open (key A). */
import { ref } from 'vue'

export const opener = ref('')
