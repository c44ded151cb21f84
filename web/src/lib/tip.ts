/** Tooltips: `v-tip="words"` on anything; one tooltip for the whole page shows those of what is pointed at, focused or
 * touched (`controls/TipLayer.vue`). */
import type { Directive } from 'vue'

function put(el: HTMLElement, words: string | null | undefined) {
  if (words) el.dataset.tip = words
  else delete el.dataset.tip
}
export const tip: Directive<HTMLElement, string | null | undefined> = {
  mounted: (el, { value }) => put(el, value),
  updated: (el, { value }) => put(el, value),
}
