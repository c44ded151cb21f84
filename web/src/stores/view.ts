/** What the view shows and how: the probe and its place, flows, shapes. A view of this window, not of the study. */
import { defineStore } from 'pinia'
import { ref, watch } from 'vue'
import type { ProbeLook } from '../api/model'
import type { Mapping } from '../lib/colour'
import { keepSharpness, keptSharpness } from '../lib/sharpness'

export type Glyph = 'barbs' | 'arrows' | 'lines' | 'none'
/** Where the probe is: a plane, a box full of glyphs, or the surface of a shape (`shape:id`). */
export type Place = 'plane' | 'box' | `shape:${string}`

export const useView = defineStore('view', () => {
  const axis = ref(2)
  const share = ref(0.42)
  const density = ref(17)
  const glyph = ref<Glyph>('barbs')
  const showSlice = ref(true)
  const showProbe = ref(true)
  const showFlows = ref(true)
  const showShapes = ref(true)
  const peek = ref(false)
  /** Before and after of the selected step, side by side under one camera. */
  const split = ref(false)
  const place = ref<Place>('plane')
  /** Length of glyphs as a factor, width in pixels. */
  const glyphLength = ref(1)
  const glyphWidth = ref(1)
  /** No vanishing point: equal lengths look equal wherever they are. */
  const parallel = ref(false)
  /** The share of pixels that are drawn, along each side: for a machine that draws slowly. */
  const sharpness = ref<number>(keptSharpness())
  watch(sharpness, keepSharpness, { flush: 'sync' })
  /** The picture and the time bar, and nothing else. */
  const alone = ref(false)
  /** The curve that is being drawn in the view, if any. */
  const drawing = ref('')
  const pinned = ref<Mapping | null>(null)

  /** How a study wants to be seen when it is opened. */
  function adopt(probe: Partial<ProbeLook>) {
    showSlice.value = showProbe.value = !probe.hidden
    axis.value = probe.axis ?? 2
    share.value = probe.share ?? 0.42
    if (probe.glyph) glyph.value = probe.glyph as Glyph
    place.value = 'plane'
    split.value = alone.value = false
    drawing.value = ''
  }
  const flags = {
    showSlice,
    showProbe,
    showFlows,
    showShapes,
    peek,
    split,
    parallel,
    sharpness,
    alone,
    drawing,
    pinned,
  }
  return { axis, share, density, glyph, place, glyphLength, glyphWidth, ...flags, adopt }
})
