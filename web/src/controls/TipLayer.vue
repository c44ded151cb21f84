<template>
  <v-tooltip
    v-if="at"
    :id="ID"
    :model-value="true"
    :target="at"
    :text="words"
    location="bottom"
    max-width="300"
    :open-on-hover="false"
    :open-on-focus="false"
    :transition="false"
  />
</template>

<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref, shallowRef } from 'vue'

/** The one tooltip of the page: after a short rest of the pointer, at once for the keyboard and for a touch. */
const ID = 'tip'
const REST = 400
const at = shallowRef<HTMLElement | null>(null)
const words = ref('')
let timer = 0
const tipped = (event: Event) => (event.target as Element | null)?.closest?.<HTMLElement>('[data-tip]') ?? null
function show(el: HTMLElement) {
  hide()
  at.value = el
  words.value = el.dataset.tip ?? ''
  el.setAttribute('aria-describedby', ID)
}
function hide() {
  clearTimeout(timer)
  if (at.value?.getAttribute('aria-describedby') === ID) at.value.removeAttribute('aria-describedby')
  at.value = null
}
function over(event: PointerEvent) {
  const el = tipped(event)
  if (el === at.value && el) return
  hide()
  if (el && event.pointerType !== 'touch') timer = window.setTimeout(() => el.isConnected && show(el), REST)
}
function focus(event: FocusEvent) {
  const el = tipped(event)
  if (el && (event.target as Element).matches(':focus-visible')) show(el)
}
function down(event: PointerEvent) {
  const el = tipped(event)
  if (el && event.pointerType === 'touch') show(el)
  else hide()
}
function key(event: KeyboardEvent) {
  if (event.key === 'Escape') hide()
}
const heard = { pointerover: over, focusin: focus, focusout: hide, pointerdown: down, keydown: key, wheel: hide }
onMounted(() => {
  for (const [name, f] of Object.entries(heard)) document.addEventListener(name, f as EventListener, true)
})
onBeforeUnmount(() => {
  hide()
  for (const [name, f] of Object.entries(heard)) document.removeEventListener(name, f as EventListener, true)
})
</script>
