<template>
  <svg
    class="dial"
    viewBox="-50 -50 100 100"
    role="img"
    :aria-label="`Key light from ${azimuth.toFixed(0)}°, ${height.toFixed(0)}° high`"
    data-testid="light-dial"
    @pointerdown="hold"
    @pointermove="(e) => e.buttons && put(e)"
  >
    <circle r="44" class="rim" />
    <circle r="22" class="rim" />
    <path d="M-44 0H44M0-44V44" class="rim" />
    <text x="47" y="2" class="way">x</text>
    <text x="-1.5" y="-46" class="way">y</text>
    <circle :cx="at[0]" :cy="at[1]" r="6" class="sun" />
  </svg>
</template>

<script setup lang="ts">
import { computed } from 'vue'

/** The sky seen from above: the key where it stands, at the middle straight above. Dragged by hand; its numbers stand
 * below, for the keyboard. */
const props = defineProps<{ azimuth: number; height: number }>()
const emit = defineEmits<{ put: [azimuth: number, height: number] }>()
const at = computed(() => {
  const a = (props.azimuth * Math.PI) / 180
  const r = 44 * (1 - props.height / 90)
  return [r * Math.cos(a), -r * Math.sin(a)]
})
function hold(event: PointerEvent) {
  ;(event.currentTarget as Element).setPointerCapture(event.pointerId)
  put(event)
}
function put(event: PointerEvent) {
  const box = (event.currentTarget as Element).getBoundingClientRect()
  const x = ((event.clientX - box.left) / box.width) * 100 - 50
  const y = 50 - ((event.clientY - box.top) / box.height) * 100
  const far = Math.min(Math.hypot(x, y) / 44, 0.95)
  emit('put', Math.round((Math.atan2(y, x) * 180) / Math.PI), Math.round(90 * (1 - far)))
}
</script>

<style scoped>
.dial {
  width: 104px;
  height: 104px;
  display: block;
  margin: 2px auto 6px;
  touch-action: none;
  cursor: crosshair;
}
.rim {
  fill: none;
  stroke: #5b6b88;
  stroke-width: 0.7;
}
.sun {
  fill: #ffe6b0;
  stroke: #d2492a;
  stroke-width: 1.5;
}
.way {
  fill: #a9b4c8;
  font-size: 7px;
}
</style>
