<!-- How a delivery is written and where: options, the folder, and what would be written. -->
<template>
  <section>
    <h2 class="over">How</h2>
    <div class="phrase">
      <span>Frames</span>
      <NumberField :value="first" label="First frame" integer testid="hand-first" @change="(v) => (o.first = v)" />
      <span>to</span>
      <NumberField :value="last" label="Last frame" integer testid="hand-last" @change="(v) => (o.last = v)" />
      <span>every</span>
      <NumberField
        :value="o.step"
        label="Every so manieth frame"
        :low="1"
        integer
        testid="hand-step"
        @change="(v) => (o.step = v)"
      />
    </div>
    <div class="phrase">
      <span>First is called</span>
      <NumberField
        :value="o.number ?? first"
        label="Number of the first frame"
        integer
        testid="hand-number"
        @change="(v) => (o.number = v)"
      />
      <span>with</span>
      <NumberField
        :value="o.padding"
        label="Digits"
        :low="1"
        :high="9"
        integer
        testid="hand-padding"
        @change="(v) => (o.padding = v)"
      />
      <span>digits</span>
    </div>
    <div class="phrase">
      <span>Names</span>
      <TextLine
        class="wide"
        :model-value="o.pattern"
        label="Pattern of names"
        testid="hand-pattern"
        @update:model-value="(t) => (o.pattern = t)"
      />
    </div>
    <div class="phrase">
      <span>Up is</span><PickOne v-model="o.up" :items="UPS" label="Up axis" testid="hand-up" /><span>lengths in</span
      ><PickOne v-model="o.unit" :items="UNITS" label="Unit of lengths" testid="hand-unit" />
    </div>
    <div class="phrase">
      <span>Velocities a</span><PickOne v-model="o.per" :items="PERS" label="Velocities a" testid="hand-per" />
      <span>from</span><PickOne v-model="o.velocity" :items="WAYS" label="Velocities from" testid="hand-velocity" />
    </div>
    <div v-if="formats.includes('vdb')" class="phrase">
      <span>OpenVDB by</span
      ><PickOne v-model="o.compression" :items="SQUEEZES" label="Compression" testid="hand-compression" />
      <TickBox v-model="o.half" words="half floats" testid="hand-half" />
    </div>
    <div v-if="formats.some((f) => ['usd', 'vdb'].includes(f))" class="phrase">
      <TickBox v-model="o.stage" words="one USD stage of it all" testid="hand-stage" />
      <span v-if="o.stage" class="muted" data-testid="hand-cameras">{{ cameraWords }}</span>
    </div>
    <h2 class="over">Where</h2>
    <div class="phrase">
      <PickOne
        v-if="roots.length > 1"
        :model-value="root"
        :items="roots.map((id) => ({ id, name: id }))"
        label="Folder for deliveries"
        testid="hand-root"
        @update:model-value="(r: string) => $emit('root', r)"
      /><span v-else class="muted path">{{ root }}/</span>
      <TextLine
        class="wide"
        :model-value="name"
        label="Name of the new folder"
        testid="hand-name"
        @update:model-value="(t) => $emit('name', t)"
      />
    </div>
    <div v-if="cluster" v-tip="cluster" class="phrase">
      <span>Written by</span
      ><PickOne
        :model-value="place"
        :items="PLACES"
        label="Who writes"
        testid="hand-place"
        @update:model-value="(p: Place) => $emit('place', p)"
      />
    </div>
    <div v-if="plan" class="plan" data-testid="hand-plan">
      <b class="num">{{ plan.count }} files, about {{ bytes(plan.bytes) }} before compression</b>
      <span class="muted num">{{ bytes(plan.free) }} are free</span>
      <ul class="num names">
        <li v-for="f in named" :key="f">{{ f }}</li>
      </ul>
      <span v-if="plan.stages.length" data-testid="hand-stages">and the stages {{ plan.stages.join(', ') }}</span>
      <span v-for="(words, format) in plan.readers" :key="format" class="muted">
        {{ format }} is read by {{ words }}
      </span>
    </div>
    <p v-if="nothing" class="muted" data-testid="hand-nothing">Choose something to hand over.</p>
    <p v-else-if="refused || plan?.problem" class="bad" role="status" data-testid="hand-refused">
      {{ refused || plan?.problem }}
    </p>
    <v-btn class="go" :disabled="!plan || !!plan.problem || !!refused" data-testid="hand-write" @click="$emit('write')"
      >Write</v-btn
    >
  </section>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { components } from '../api/schema'
import PickOne from '../controls/PickOne.vue'
import TextLine from '../controls/TextLine.vue'
import TickBox from '../controls/TickBox.vue'
import NumberField from '../inspector/NumberField.vue'
import { bytes } from '../lib/quantity'
import type { Choices, Place } from './choices'

type Options = components['schemas']['OptionsIn']
const UPS: { id: NonNullable<Options['up']>; name: string }[] = [
  { id: 'Z', name: 'Z' },
  { id: 'Y', name: 'Y' },
]
const UNITS: { id: NonNullable<Options['unit']>; name: string }[] = [
  { id: 'm', name: 'metres' },
  { id: 'dm', name: 'decimetres' },
  { id: 'cm', name: 'centimetres' },
  { id: 'mm', name: 'millimetres' },
]
const PERS: { id: NonNullable<Options['per']>; name: string }[] = [
  { id: 'second', name: 'second' },
  { id: 'frame', name: 'frame' },
]
const WAYS: { id: NonNullable<Options['velocity']>; name: string }[] = [
  { id: 'motion', name: 'the motion' },
  { id: 'positions', name: 'positions a frame apart' },
]
const SQUEEZES: { id: NonNullable<Options['compression']>; name: string }[] = [
  { id: 'blosc', name: 'Blosc' },
  { id: 'zip', name: 'zip' },
  { id: 'none', name: 'no compression' },
]
const PLACES: { id: Place; name: string }[] = [
  { id: 'cluster', name: 'the workers of the cluster' },
  { id: 'here', name: 'this machine' },
]

const props = defineProps<{
  first: number
  last: number
  /** Of what is chosen. */
  formats: string[]
  /** Names of the viewpoints that are saved. */
  cameras: string[]
  /** Whether some are tied to frames, so that one camera goes through them. */
  goes: boolean
  roots: string[]
  root: string
  name: string
  /** Address of the cluster's scheduler; empty where there is none. */
  cluster: string
  place: Place
  /** Whether nothing is chosen. */
  nothing: boolean
  plan: components['schemas']['Plan'] | null
  refused: string
}>()
defineEmits<{ root: [folder: string]; name: [text: string]; place: [who: Place]; write: [] }>()
const o = defineModel<Choices>({ required: true })

const cameraWords = computed(() => {
  const n = props.cameras.length
  if (!n) return 'without a camera: no viewpoint is saved'
  const still = n === 1 ? `with the viewpoint ${props.cameras[0]} as a camera` : `with ${n} viewpoints as cameras`
  return props.goes ? `${still}, and one that goes as the flipbook's` : still
})
/** The first names and the last. */
const named = computed(() => {
  const all = props.plan?.files ?? []
  return all.length > 7 ? [...all.slice(0, 4), '…', ...all.slice(-2)] : all
})
</script>

<style scoped>
.phrase {
  display: flex;
  align-items: center;
  gap: 8px;
  margin-bottom: 8px;
  font-size: 13px;
}
.wide.v-input {
  flex: 1;
}
.plan {
  display: grid;
  gap: 2px;
  font-size: 12px;
  margin-bottom: 10px;
}
.names {
  margin: 4px 0;
  padding: 0;
  list-style: none;
}
.path {
  overflow-wrap: anywhere;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.phrase > .v-selection-control {
  flex: none;
}
</style>
