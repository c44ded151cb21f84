<template>
  <div class="row">
    <span>Drawn as</span><PickOne v-model="shows.glyph" :items="GLYPHS" label="How the probe is drawn" testid="glyph" />
  </div>
  <div class="row">
    <span>Stands</span
    ><PickOne
      :model-value="shows.place"
      :items="places"
      label="Where the probe is"
      testid="place"
      @update:model-value="stand"
    />
  </div>
  <PlaneRows v-if="!shows.place.startsWith('shape:')" />
  <div class="row">
    <span>Density</span
    ><SlideTo v-model="shows.density" :low="8" :high="44" :step="1" label="Density of the probe" testid="density" />
  </div>
  <div class="row">
    <span>Length</span
    ><SlideTo v-model="shows.glyphLength" :low="0.4" :high="2.5" :step="0.05" label="Length of glyphs" />
  </div>
  <div class="row">
    <span>Width</span
    ><SlideTo
      v-model="shows.glyphWidth"
      :low="1"
      :high="5"
      :step="0.5"
      label="Width of glyphs and flow lines"
      testid="glyph-width"
    />
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import PickOne from '../../controls/PickOne.vue'
import SlideTo from '../../controls/SlideTo.vue'
import { isStandIn, standing, standInWords } from '../../lib/standing'
import { useLook } from '../../stores/look'
import { useStudy } from '../../stores/study'
import { useView, type Glyph, type Place } from '../../stores/view'
import PlaneRows from './PlaneRows.vue'

const GLYPHS: { id: Glyph; name: string }[] = [
  { id: 'barbs', name: 'wind barbs' },
  { id: 'arrows', name: 'arrows' },
  { id: 'lines', name: 'flow lines' },
  { id: 'none', name: 'slice only' },
]
const study = useStudy()
const look = useLook()
const shows = useView()
const places = computed<{ id: Place; name: string }[]>(() => [
  { id: 'plane', name: 'on a plane' },
  { id: 'box', name: 'in a box' },
  ...(study.doc?.shapes ?? [])
    .filter((s) => s.kind !== 'plane')
    .map((s) => ({ id: `shape:${s.id}` as Place, name: `on ${s.name}` })),
  ...look.asShapes().map((s) => ({ id: `shape:${s.id}` as Place, name: `on the ${s.name}` })),
])
/** Put the probe somewhere; on the surface of a lane, that becomes a shape. */
function stand(place: Place) {
  const id = place.startsWith('shape:') ? place.slice(6) : ''
  if (isStandIn(id))
    study.edit(`Add the ${standInWords(study.doc, id)}`, (d) => {
      place = `shape:${standing(d, id) as string}`
    })
  shows.place = place
}
</script>
