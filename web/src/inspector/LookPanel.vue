<template>
  <section class="look" aria-label="How the flow is drawn" data-testid="look-panel">
    <h3>Look <label><input type="checkbox" :checked="how.shown" data-testid="look-shown" @change="set('shown', ($event.target as HTMLInputElement).checked)" /> shown</label></h3>
    <div class="row"><span>Colour by</span><select :value="how.colour" data-testid="look-colour" aria-label="Colour by" @change="set('colour', value($event))"><option v-for="c in channels" :key="c.id" :value="c.id">{{ c.name }}</option></select></div>
    <div class="row"><span>Colours</span><select :value="how.map" data-testid="look-map" aria-label="Colours" @change="set('map', value($event))"><option value="sequential">sea to sun</option><option value="heat">black body</option><option value="diverging">below and above</option><option value="cyclic">around the circle</option><option value="mix">two colours</option></select></div>
    <div v-if="how.map === 'mix'" class="row"><span>From, to</span><span><input type="color" :value="how.from" aria-label="First colour" data-testid="look-from" @change="set('from', value($event))" /> <input type="color" :value="how.to" aria-label="Last colour" data-testid="look-to" @change="set('to', value($event))" /></span></div>
    <div class="bar" :style="{ background: how.map === 'mix' ? `linear-gradient(90deg, ${how.from}, ${how.to})` : gradientCss(how.map) }" />
    <div class="row"><span>Range</span><span><NumberField :value="low" quiet label="Range from" testid="number-look-low" @change="(v) => set('low', v)" /> … <NumberField :value="high" quiet label="Range to" testid="number-look-high" @change="(v) => set('high', v)" /> <span class="muted">{{ frame?.unit }}</span></span></div>
    <div class="row"><span /><button :disabled="how.low === null && how.high === null" @click="fit">fit to the frame</button></div>
    <div class="row"><span>Size</span><NumberField :value="how.size" :low="0" open-below :high="40" unit="px" label="Size of points" testid="number-look-size" @change="(v) => set('size', v)" /></div>
    <div class="row"><span>Blending</span><select :value="how.blend" data-testid="look-blend" aria-label="Blending" @change="set('blend', value($event))"><option value="additive">glowing (additive)</option><option value="opaque">opaque</option></select></div>
    <p class="muted">A look is never part of a run: nothing is computed anew.</p>
  </section>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { FlowLook } from '../api/types'
import { gradientCss } from '../lib/colour'
import { particleChannels } from '../stores/frames'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import NumberField from './NumberField.vue'

const props = defineProps<{ flow: string }>()
const study = useStudy()
const runs = useRuns()
const how = computed(() => runs.lookOf(props.flow))
const frame = computed(() => runs.shown[props.flow])
const low = computed(() => how.value.low ?? (how.value.colour === 'speed' ? 0 : (frame.value?.low ?? 0)))
const high = computed(() => how.value.high ?? frame.value?.high ?? 1)
const value = (event: Event) => (event.target as HTMLInputElement).value
const channels = computed(() => particleChannels(study.laneOf(props.flow)))
const WORDS: Record<string, string> = { shown: 'Shown', colour: 'Colour by', map: 'Colours', from: 'First colour', to: 'Last colour', low: 'Range from', high: 'Range to', size: 'Size', blend: 'Blending' }
function set(name: keyof FlowLook, to: unknown) {
  study.edit(`${WORDS[name]} → ${to}`, (d) => {
    const look: Record<string, unknown> = { ...d.looks[props.flow], [name]: to }
    if (name === 'colour') { look.low = look.high = null; if (to === 'direction') look.map = 'cyclic'; else if (look.map === 'cyclic') look.map = 'sequential' }
    d.looks[props.flow] = look as Partial<FlowLook>
  }, `looks.${props.flow}.${name}`)
}
function fit() { study.edit('Range fitted to the frame', (d) => { d.looks[props.flow] = { ...d.looks[props.flow], low: null, high: null } }) }
</script>

<style scoped>
.look { border-top: 1px solid var(--line); margin-top: 10px; padding-top: 6px; }
h3 { font-size: 13px; display: flex; justify-content: space-between; margin: 0; }
h3 label { font-weight: 400; }
.row { display: flex; justify-content: space-between; align-items: center; padding: 3px 0; gap: 8px; }
.bar { height: 7px; margin: 3px 0; }
select { border: 1px solid var(--line); border-radius: 3px; background: var(--card); padding: 1px 6px; color: inherit; }
button:not(:disabled):hover { text-decoration: underline; }
button:disabled { color: var(--muted); }
</style>
