/** Whether anybody can see this window: behind another one, or in a tab behind, runs go on and are told of, but nothing
 * is drawn and no look is asked for as their frames come. */
import { ref } from 'vue'

export const seen = ref(!document.hidden)
document.addEventListener('visibilitychange', () => {
  seen.value = !document.hidden
})
