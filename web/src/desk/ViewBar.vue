<template>
  <v-theme-provider theme="night">
    <div class="strip" role="toolbar" aria-label="What the view shows">
      <template v-for="t in things" :key="t.id"
        ><v-btn
          v-if="t.toggle"
          v-tip="`${t.label} on or off (${t.key})`"
          class="thing"
          :class="{ on: t.on }"
          :aria-pressed="t.on"
          :data-testid="`draws-${t.id}`"
          @click="t.toggle()"
          >{{ t.label }}</v-btn
        ><v-btn
          v-if="t.on"
          class="more"
          :class="{ asked: asked === t.id, on: t.toggle }"
          :aria-label="`Settings of ${t.label.toLowerCase()}`"
          :aria-expanded="asked === t.id"
          :data-testid="`settings-${t.id}`"
          @click="asked = asked === t.id ? '' : t.id"
          ><template v-if="!t.toggle">{{ t.label }}</template
          ><v-icon :icon="asked === t.id ? mdiChevronUp : mdiChevronDown" size="14" /></v-btn
      ></template>
      <v-menu>
        <template #activator="{ props }"
          ><v-btn v-bind="props" class="thing" data-testid="views"
            >Views<v-icon :icon="mdiChevronDown" size="14" /></v-btn
        ></template>
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
          <v-list-item
            v-for="s in others"
            :key="s.share"
            :title="s.name"
            :subtitle="s.about"
            :data-testid="`pixels-${s.share}`"
            @click="shows.sharpness = s.share"
          />
          <v-list-item title="Frame everything" @click="$emit('frame', true)" />
          <v-list-item title="Frame the selection" subtitle="F" @click="$emit('frame', false)" />
          <v-list-item
            v-for="(v, i) in saved"
            :key="i"
            :title="v.name"
            subtitle="saved viewpoint"
            @click="$emit('go', v)"
            ><template #append
              ><v-btn class="plain" aria-label="Forget this viewpoint" @click.stop="forget(i)">×</v-btn></template
            ></v-list-item
          >
          <v-list-item title="Keep this viewpoint" data-testid="keep-view" @click="$emit('keep')" />
        </v-list>
      </v-menu>
      <v-btn v-for="d in DOES" :key="d.id" v-tip="d.tip" class="thing" :data-testid="d.id" @click="does(d.id)">{{
        d.name
      }}</v-btn>
    </div>
    <section
      v-if="open"
      class="settings v-theme--night"
      :aria-label="`Settings of ${open.label.toLowerCase()}`"
      data-testid="view-settings"
      @keydown.esc="asked = ''"
    >
      <div class="head">
        <b>{{ open.label }}</b><v-btn class="plain" aria-label="Fold the settings away" @click="asked = ''">
          <v-icon :icon="mdiClose" size="15" />
        </v-btn>
      </div>
      <ProbeSettings v-if="open.id === 'probe'" />
      <SliceSettings v-else-if="open.id === 'slice'" />
      <FlowSettings v-else-if="open.id === 'flows'" />
      <ShapeSettings v-else-if="open.id === 'shapes'" />
      <LightSettings v-else @expose="$emit('expose')" />
    </section>
  </v-theme-provider>
</template>

<script setup lang="ts">
import { mdiChevronDown, mdiChevronUp, mdiClose } from '@mdi/js'
import { computed, ref } from 'vue'
import type { Vec3 } from '../api/model'
import { useCatalogue } from '../stores/catalogue'
import { SHARPNESS } from '../lib/sharpness'
import { useView } from '../stores/view'
import { useStudy } from '../stores/study'
import FlowSettings from './settings/FlowSettings.vue'
import LightSettings from './settings/LightSettings.vue'
import ProbeSettings from './settings/ProbeSettings.vue'
import ShapeSettings from './settings/ShapeSettings.vue'
import SliceSettings from './settings/SliceSettings.vue'

export interface Viewpoint {
  name: string
  position: Vec3
  target: Vec3
  parallel?: boolean
}
const emit = defineEmits<{
  frame: [whole: boolean]
  turn: [way: Vec3]
  go: [view: Viewpoint]
  keep: []
  picture: []
  flipbook: []
  alone: []
  expose: []
}>()
/** What is done with the picture as it stands. */
const DOES = [
  { id: 'picture', name: 'Picture', tip: 'Save a picture (PNG)' },
  { id: 'flipbook', name: 'Flipbook', tip: 'A film of frames as the view shows them, or in full light' },
  { id: 'alone', name: 'Alone', tip: 'The picture alone, with the time bar (V)' },
] as const
const does = emit as (id: (typeof DOES)[number]['id']) => void
const AXES: { id: string; name: string; way: Vec3 }[] = [
  { id: 'front', name: 'From the front (−y)', way: [0, -1, 0.001] },
  { id: 'back', name: 'From behind (+y)', way: [0, 1, 0.001] },
  { id: 'left', name: 'From the left (−x)', way: [-1, 0, 0.001] },
  { id: 'right', name: 'From the right (+x)', way: [1, 0, 0.001] },
  { id: 'top', name: 'From above (+z)', way: [0, -0.001, 1] },
]
const others = computed(() => SHARPNESS.filter((s) => s.share !== shows.sharpness))
interface Thing {
  id: string
  label: string
  on: boolean
  key?: string
  toggle?: () => void
}
const shows = useView()
const study = useStudy()
const listed = useCatalogue()
const saved = computed(() => (study.doc?.looks.views ?? []) as unknown as Viewpoint[])
/** What the flows are: one word for the button that shows them. */
const carried = computed(() => {
  const kinds = [...new Set((study.doc?.flows ?? []).map((f) => f.kind))]
  return (kinds.length === 1 && listed.kind(kinds[0])?.label) || 'Flows'
})
const things = computed<Thing[]>(() => [
  ...(
    [
      ['probe', 'Probe', 'showProbe'],
      ['slice', 'Slice', 'showSlice'],
      ['flows', carried.value, 'showFlows'],
      ['shapes', 'Shapes', 'showShapes'],
    ] as const
  ).map(([id, label, flag], i) => ({
    id,
    label,
    on: shows[flag],
    key: String(i + 1),
    toggle: () => (shows[flag] = !shows[flag]),
  })),
  { id: 'light', label: 'Light', on: true },
])
/** The thing whose settings are asked for; they are there only while it is drawn. */
const asked = ref('')
const open = computed(() => things.value.find((t) => t.id === asked.value && t.on))
function forget(i: number) {
  study.edit('Forget a viewpoint', (d) => {
    ;(d.looks.views as unknown as Viewpoint[]).splice(i, 1)
  })
}
</script>

<style scoped>
.strip {
  position: absolute;
  left: 10px;
  top: 6px;
  z-index: 2;
  display: flex;
  align-items: center;
}
.strip .v-btn {
  color: #c9d3e6;
  font-size: 12px;
  height: 26px;
  min-width: 0;
  border-radius: 0;
  border-bottom: 2px solid transparent;
}
.strip .thing {
  padding: 0 8px;
}
.strip .more {
  padding: 0 3px;
  margin-right: 4px;
}
.strip .more:not(.on) {
  padding-left: 8px;
}
.strip .on {
  color: #fff;
  border-color: #d2492a;
}
.strip .asked {
  background: #22304a;
}
.settings {
  position: absolute;
  left: 14px;
  top: 40px;
  width: 266px;
  max-height: calc(100% - 56px);
  overflow: auto;
  z-index: 2;
  background: #131c2bf2;
  border: 1px solid #33425a;
  border-radius: 3px;
  color: #e9e2d2;
  padding: 6px 10px 8px;
}
.head {
  display: flex;
  justify-content: space-between;
  padding-bottom: 3px;
}
.settings :deep(.row) {
  display: flex;
  align-items: center;
  gap: 8px;
  min-height: 28px;
  border-bottom: 1px solid var(--soft);
  font-size: 12px;
}
.settings :deep(.row > span:first-child) {
  width: 56px;
  color: var(--muted);
}
.settings :deep(.row > .tick) {
  flex: 1;
}
.settings :deep(.row > .pick) {
  flex: 1;
}
</style>
