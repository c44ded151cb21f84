<template>
  <section class="look" aria-label="How the gas is drawn" data-testid="smoke-look">
    <h3>Look <label><input type="checkbox" :checked="how.shown" data-testid="look-shown" @change="set('shown', ($event.target as HTMLInputElement).checked)" /> shown</label></h3>
    <div class="row"><span>Shows</span><select :value="how.colour" data-testid="look-colour" aria-label="Shows" @change="set('colour', value($event))"><option value="smoke">smoke and heat</option><option v-for="c in names" :key="c" :value="c">{{ WORDS_OF[c] ?? c }}</option></select></div>
    <div class="row"><span>Takes of the light</span><NumberField :value="how.absorb" :low="0" open-below unit="1/m" label="Share of the light taken a metre" testid="number-look-absorb" @change="(v) => set('absorb', v)" /></div>
    <template v-if="how.colour === 'smoke'">
      <div class="row"><span>Smoke</span><input type="color" :value="how.tint" aria-label="Colour of smoke" data-testid="look-tint" @change="set('tint', value($event))" /></div>
      <div class="row"><span>Glow of heat</span><NumberField :value="how.glow" :low="0" unit="×" label="Glow of heat" testid="number-look-glow" @change="(v) => set('glow', v)" /></div>
      <div class="bar" :style="{ background: gradientCss('heat') }" />
      <div class="row"><span>Glows from</span><span><NumberField :value="how.cold" quiet label="Glows from" testid="number-look-cold" @change="(v) => set('cold', v)" /> … <NumberField :value="how.hot" quiet label="White at" testid="number-look-hot" @change="(v) => set('hot', v)" /> <span class="muted">K</span></span></div>
    </template>
    <template v-else>
      <div class="row"><span>Colours</span><select :value="how.map" data-testid="look-map" aria-label="Colours" @change="set('map', value($event))"><option value="sequential">sea to sun</option><option value="heat">black body</option><option value="diverging">below and above</option><option value="mix">two colours</option></select></div>
      <div v-if="how.map === 'mix'" class="row"><span>From, to</span><span><input type="color" :value="how.from" aria-label="First colour" @change="set('from', value($event))" /> <input type="color" :value="how.to" aria-label="Last colour" @change="set('to', value($event))" /></span></div>
      <div class="bar" :style="{ background: how.map === 'mix' ? `linear-gradient(90deg, ${how.from}, ${how.to})` : gradientCss(how.map) }" />
      <div class="row"><span>Range</span><span><NumberField :value="how.low ?? 0" quiet label="Range from" testid="number-look-low" @change="(v) => set('low', v)" /> … <NumberField :value="how.high ?? volume?.tops.channel ?? 1" quiet label="Range to" testid="number-look-high" @change="(v) => set('high', v)" /> <span class="muted">{{ UNITS[how.colour] ?? '' }}</span></span></div>
      <div class="row"><span /><button :disabled="how.low === null && how.high === null" @click="fit">fit to the frame</button></div>
    </template>
    <p v-if="volume" class="muted" data-testid="gas-facts">{{ volume.voxels.toLocaleString('en') }} voxels of {{ shown(volume.voxel_size, 3) }} m in the window · density to {{ shown(volume.tops.density, 3) }} · {{ shown(volume.tops.temperature, 3) }} K</p>
    <p class="muted">A look is never part of a run: nothing is computed anew.</p>
  </section>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { FlowLook } from '../api/types'
import { gradientCss } from '../lib/colour'
import { shown } from '../lib/quantity'
import { UNITS } from '../stores/frames'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import NumberField from './NumberField.vue'

const props = defineProps<{ flow: string }>()
const study = useStudy()
const runs = useRuns()
const how = computed(() => runs.lookOf(props.flow))
const volume = computed(() => runs.shown[props.flow]?.volume)
const WORDS_OF: Record<string, string> = { vel: 'speed' }
const names = computed(() => volume.value?.names ?? ['density', 'temperature', 'vel'])
const value = (event: Event) => (event.target as HTMLInputElement).value
const WORDS: Record<string, string> = { shown: 'Shown', colour: 'Shows', map: 'Colours', from: 'First colour', to: 'Last colour', low: 'Range from', high: 'Range to', absorb: 'Takes of the light', tint: 'Colour of smoke', glow: 'Glow of heat', cold: 'Glows from', hot: 'White at' }
function set(name: keyof FlowLook, to: unknown) {
  study.edit(`${WORDS[name]} → ${to}`, (d) => {
    const look: Record<string, unknown> = { ...d.looks[props.flow], [name]: to }
    if (name === 'colour') look.low = look.high = null
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
