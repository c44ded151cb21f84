/** Names the input inside a component of Vuetify, whose own attributes go to what is around it. */
import { onMounted, onUpdated, ref } from 'vue'

/** A template ref, and the element that is typed into; `attributes` are set on it. */
export function useInput(attributes: () => Record<string, string | undefined>) {
  const box = ref<{ $el: HTMLElement } | null>(null)
  const input = () => box.value?.$el.querySelector('input') ?? null
  function mark() {
    const el = input()
    if (!el) return
    for (const [name, value] of Object.entries(attributes()))
      if (value === undefined) el.removeAttribute(name)
      else if (el.getAttribute(name) !== value) el.setAttribute(name, value)
  }
  onMounted(mark)
  onUpdated(mark)
  return { box, input }
}
