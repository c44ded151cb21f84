<template>
  <div class="bar">
    <select v-model="shows.glyph" aria-label="How the probe is drawn" data-testid="glyph">
      <option value="barbs">wind barbs</option>
      <option value="arrows">arrows</option>
      <option value="lines">flow lines</option>
      <option value="none">slice only</option>
    </select>
    <select v-model="shows.place" aria-label="Where the probe is" data-testid="place">
      <option value="plane">on a plane</option>
      <option value="box">in a box</option>
      <option v-for="s in shapes" :key="s.id" :value="`shape:${s.id}`">on {{ s.name }}</option>
    </select>
    <select v-model.number="shows.axis" aria-label="Probe across">
      <option :value="0">across x</option>
      <option :value="1">across y</option>
      <option :value="2">across z</option>
    </select>
    <label
      >density <input v-model.number="shows.density" type="range" min="8" max="44" aria-label="Density of the probe"
    /></label>
    <label
      >length
      <input
        v-model.number="shows.glyphLength"
        type="range"
        min="0.4"
        max="2.5"
        step="0.05"
        aria-label="Length of glyphs"
    /></label>
    <label
      >width
      <input
        v-model.number="shows.glyphWidth"
        type="range"
        min="1"
        max="5"
        step="0.5"
        aria-label="Width of glyphs and flow lines"
        data-testid="glyph-width"
    /></label>
    <label
      >at
      <input
        v-model.number="shows.share"
        type="range"
        min="0"
        max="1"
        step="0.005"
        aria-label="Place of the probe"
        data-testid="probe-share"
    /></label>
    <span class="num">{{ 'xyz'[shows.axis] }} {{ shown(look.window.origin[shows.axis], 3) }} m</span>
    <v-menu>
      <template #activator="{ props }"><button v-bind="props" data-testid="views">views ▾</button></template>
      <v-list density="compact" min-width="180">
        <v-list-item
          v-for="a in AXES"
          :key="a.name"
          :title="a.name"
          :data-testid="`view-${a.id}`"
          @click="$emit('turn', a.way)"
        />
        <v-list-item
          :title="shows.parallel ? 'Perspective view' : 'Parallel view'"
          subtitle="O"
          data-testid="parallel"
          @click="shows.parallel = !shows.parallel"
        />
        <v-list-item title="Frame everything" @click="$emit('frame', true)" />
        <v-list-item title="Frame the selection" subtitle="F" @click="$emit('frame', false)" />
        <v-list-item v-for="(v, i) in saved" :key="i" :title="v.name" subtitle="saved viewpoint" @click="$emit('go', v)"
          ><template #append
            ><button aria-label="Forget this viewpoint" @click.stop="forget(i)">×</button></template
          ></v-list-item
        >
        <v-list-item title="Keep this viewpoint" data-testid="keep-view" @click="$emit('keep')" />
      </v-list>
    </v-menu>
    <button title="Save a picture (PNG)" @click="$emit('picture')">picture</button>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Vec3 } from '../api/model'
import { shown } from '../lib/quantity'
import { useLook } from '../stores/look'
import { useView } from '../stores/view'
import { useStudy } from '../stores/study'

export interface Viewpoint {
  name: string
  position: Vec3
  target: Vec3
  parallel?: boolean
}
defineEmits<{ frame: [whole: boolean]; turn: [way: Vec3]; go: [view: Viewpoint]; keep: []; picture: [] }>()
const AXES: { id: string; name: string; way: Vec3 }[] = [
  { id: 'front', name: 'From the front (−y)', way: [0, -1, 0.001] },
  { id: 'back', name: 'From behind (+y)', way: [0, 1, 0.001] },
  { id: 'left', name: 'From the left (−x)', way: [-1, 0, 0.001] },
  { id: 'right', name: 'From the right (+x)', way: [1, 0, 0.001] },
  { id: 'top', name: 'From above (+z)', way: [0, -0.001, 1] },
]
const look = useLook()
const shows = useView()
const study = useStudy()
const shapes = computed(() => (study.doc?.shapes ?? []).filter((s) => s.kind !== 'plane'))
const saved = computed(() => (study.doc?.looks.views ?? []) as unknown as Viewpoint[])
function forget(i: number) {
  study.edit('Forget a viewpoint', (d) => {
    ;(d.looks.views as unknown as Viewpoint[]).splice(i, 1)
  })
}
</script>

<style scoped>
.bar {
  display: flex;
  gap: 9px;
  align-items: center;
  color: #c9d3e6;
  position: absolute;
  left: 14px;
  top: 38px;
  font-size: 11.5px;
  z-index: 1;
  flex-wrap: wrap;
  right: 14px;
}
.bar select {
  color: #dfe6f2;
  background: #16273f;
  border: 1px solid #33486b;
  border-radius: 3px;
  padding: 1px 4px;
  max-width: 118px;
}
.bar input[type='range'] {
  width: 58px;
  accent-color: #d2492a;
  vertical-align: middle;
}
.bar button:hover {
  text-decoration: underline;
}
</style>
