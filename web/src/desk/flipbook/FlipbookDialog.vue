<!-- A flipbook of what the view shows: which frames, how large, from where; made, played and taken along. -->
<template>
  <v-dialog :model-value="true" width="860" persistent @update:model-value="close">
    <v-card class="ask" data-testid="flipbook-dialog">
      <h2>Flipbook</h2>
      <p class="muted">What the view shows, a picture a frame, and a film of them (H.264).</p>
      <div class="phrase">
        <span>Frames</span>
        <NumberField :value="first" label="First frame" integer testid="flip-first" @change="(v) => (first = v)" />
        <span>to</span>
        <NumberField :value="last" label="Last frame" integer testid="flip-last" @change="(v) => (last = v)" />
        <span>in</span><PickOne v-model="size" :items="SIZES" label="Size of pictures" testid="flip-size" />
        <TickBox v-model="words" words="frame number" testid="flip-words" />
        <TickBox v-if="legend" v-model="withLegend" words="legend" testid="flip-legend" />
      </div>
      <div v-if="saved.length" class="keys">
        <span>Camera</span>
        <span class="muted">{{
          keys.length
            ? `through ${keys.length} viewpoint${keys.length > 1 ? 's' : ''}`
            : 'as the view stands; a viewpoint with a frame moves it'
        }}</span>
        <div v-for="(v, i) in saved" :key="i" class="key">
          <TickBox
            :model-value="v.frame != null"
            :words="v.name"
            :testid="`flip-key-${i}`"
            @update:model-value="(on) => keep(i, on ? (i ? last : first) : undefined)"
          />
          <template v-if="v.frame != null"
            ><span>at frame</span
            ><NumberField
              :value="v.frame"
              :label="`Frame of ${v.name}`"
              integer
              :testid="`flip-key-frame-${i}`"
              @change="(n) => keep(i, n)"
          /></template>
        </div>
      </div>
      <p v-if="problem" class="bad" role="alert" data-testid="flip-problem">{{ problem }}</p>
      <div v-if="making" class="phrase" data-testid="flip-progress">
        <v-progress-linear
          :model-value="share"
          height="4"
          color="success"
          :aria-label="encoded ? 'Film made' : 'Pictures made'"
        />
        <span class="num nowrap">{{ progress }}</span>
      </div>
      <video
        v-if="made && !making"
        :key="made.id"
        class="film"
        controls
        loop
        muted
        autoplay
        :src="`${base}/${made.id}/movie`"
        data-testid="flip-film"
      />
      <p v-if="made && !making" class="muted">
        {{ made.last - made.first + 1 }} pictures of {{ made.width }} × {{ made.height }}, {{ bytes(made.bytes) }}, in
        <span class="path">{{ made.path }}</span>
      </p>
      <div class="phrase">
        <v-btn v-if="!making" class="go" data-testid="flip-go" @click="make">{{
          made ? 'Make another' : 'Make it'
        }}</v-btn>
        <v-btn v-else variant="outlined" data-testid="flip-stop" @click="stopped = true">Stop</v-btn>
        <template v-if="made && !making">
          <v-btn variant="outlined" :href="`${base}/${made.id}/movie?save=true`" data-testid="flip-save-film"
            >Save film</v-btn
          >
          <v-btn variant="outlined" :href="`${base}/${made.id}/zip`" data-testid="flip-save-all">Save pictures</v-btn>
        </template>
        <span class="sp" />
        <v-btn v-if="!making" variant="outlined" data-testid="flip-close" @click="close">Close</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, ref } from 'vue'
import { call, idle } from '../../api/client'
import type { components } from '../../api/schema'
import PickOne from '../../controls/PickOne.vue'
import TickBox from '../../controls/TickBox.vue'
import NumberField from '../../inspector/NumberField.vue'
import { bytes } from '../../lib/quantity'
import { useRuns } from '../../stores/runs'
import { useStudy } from '../../stores/study'
import type { Viewer } from '../../scene/viewer'
import type { Viewpoint } from '../ViewBar.vue'
import { burn, type Legend } from './film'

type Made = components['schemas']['FlipbookOut']
type Encoding = components['schemas']['FilmProgress']
type Key = components['schemas']['Key']
const props = defineProps<{ viewer: Viewer; legend: Legend | null }>()
const emit = defineEmits<{ close: [] }>()
/** How long a frame may take until it is drawn. */
const PATIENCE = 120_000
const SIZES = [
  { id: '640x400', name: '640 × 400' },
  { id: '960x600', name: '960 × 600' },
  { id: '1280x800', name: '1280 × 800' },
  { id: '1920x1080', name: '1920 × 1080' },
]
const study = useStudy()
const runs = useRuns()
const base = computed(() => `/api/studies/${study.key}/flipbooks`)
const there = runs.run?.frames ?? []
const first = ref(there.length ? Math.min(...there) : runs.clock.start)
const last = ref(there.length ? Math.max(...there) : runs.clock.end)
const size = ref('960x600')
const words = ref(true)
const withLegend = ref(true)
const problem = ref('')
const making = ref(false)
const stopped = ref(false)
const done = ref(0)
/** For what it waits, in words. */
const waits = ref('')
const began = ref(0)
/** How far the film of the pictures is, once they are there. */
const encoded = ref<Encoding | null>(null)
const made = ref<Made | null>(null)
const count = computed(() => last.value - first.value + 1)
const saved = computed(() => (study.doc?.looks.views ?? []) as unknown as (Viewpoint & { frame?: number })[])
const keys = computed(() => saved.value.filter((v) => v.frame != null) as Key[])
const progress = computed(() => {
  if (waits.value) return `${done.value} of ${count.value}, ${waits.value}`
  if (encoded.value) return `film: ${encoded.value.done} of ${count.value}${ahead(encoded.value.left)}`
  return `${done.value} of ${count.value}${ahead(left.value)}`
})
/** Share of what goes, pictures or film, in percent. */
const share = computed(() => (100 * (encoded.value?.done ?? done.value)) / count.value)
const left = computed(() =>
  done.value ? ((performance.now() - began.value) / done.value / 1000) * (count.value - done.value) : null,
)
const ahead = (seconds: number | null) => (seconds == null ? '' : `, ${Math.max(1, Math.round(seconds))} s left`)

function keep(i: number, frame?: number) {
  study.edit(frame == null ? 'Camera without this viewpoint' : `Viewpoint at frame ${frame}`, (d) => {
    const views = [...((d.looks.views ?? []) as unknown as (Viewpoint & { frame?: number })[])]
    views[i] = { ...views[i], frame }
    if (frame == null) delete views[i].frame
    d.looks.views = views as never
  })
}
const pause = () => new Promise((next) => setTimeout(next, 30))
/** Until everything that belongs to a frame is there and drawn. */
async function settled(frame: number) {
  for (let l = runs.lacking(frame); l.names.length; l = runs.lacking(frame)) {
    if (!l.goes) throw new Error(`Frame ${frame} of ${l.names.join(' and ')} is not computed: run it, or film fewer`)
    waits.value = `waits for frame ${frame} of ${l.names.join(' and ')}`
    await pause()
    if (stopped.value) return
  }
  waits.value = ''
  const end = performance.now() + PATIENCE
  for (let quiet = 0; quiet < 3; quiet = runs.isShown(frame) && idle() ? quiet + 1 : 0) {
    await pause()
    if (stopped.value) return
    if (performance.now() > end) throw new Error(`Frame ${frame} is not drawn: it takes more than two minutes`)
  }
}
/** The film of the pictures, which the server makes. */
async function encode(at: string) {
  encoded.value = await call<Encoding>('POST', `${at}/finish`)
  while (!encoded.value.film && !stopped.value) {
    await new Promise((next) => setTimeout(next, 200))
    encoded.value = await call<Encoding>('GET', at)
  }
  if (encoded.value.film) made.value = encoded.value.film
}
async function make() {
  const [width, height] = size.value.split('x').map(Number)
  const before = { frame: runs.frame, camera: props.viewer.viewpoint() }
  const { start, end } = runs.clock
  let id = ''
  problem.value = ''
  if (first.value < start || last.value > end || first.value > last.value) {
    problem.value = `Frames ${first.value} to ${last.value} are not in the study's ${start} to ${end}`
    return
  }
  stopped.value = false
  making.value = true
  done.value = 0
  waits.value = ''
  encoded.value = null
  began.value = performance.now()
  runs.play(false)
  try {
    const note = keys.value.length ? `camera through ${keys.value.length} viewpoints` : ''
    const film = { first: first.value, last: last.value, width, height, fps: runs.clock.fps, note }
    const name = study.doc?.name ?? study.key
    id = (await call<{ id: string }>('POST', `/studies/${study.key}/flipbooks`, { name, ...film })).id
    const path = keys.value.length
      ? await call<Key[]>('POST', '/camera-path', { views: keys.value, first: first.value, last: last.value })
      : []
    props.viewer.toFilm(width, height)
    for (let frame = first.value; frame <= last.value; frame++) {
      runs.go(frame)
      if (path.length) props.viewer.goTo(path[frame - first.value])
      await settled(frame)
      if (stopped.value) break
      const picture = props.viewer.film()
      burn(picture, words.value ? `${name}  ${frame}` : '', withLegend.value ? props.legend : null)
      const blob = await new Promise<Blob | null>((got) => picture.toBlob(got, 'image/png'))
      if (!blob) throw new Error('The browser makes no picture of this size')
      await call('PUT', `/studies/${study.key}/flipbooks/${id}/frames/${frame}`, blob)
      done.value++
    }
    if (!stopped.value) await encode(`/studies/${study.key}/flipbooks/${id}`)
  } catch (error) {
    problem.value = (error as Error).message
    stopped.value = true
  }
  if (stopped.value && id) await call('DELETE', `/studies/${study.key}/flipbooks/${id}`).catch(() => undefined)
  props.viewer.filmed()
  props.viewer.goTo(before.camera)
  runs.go(before.frame)
  making.value = false
}
function close() {
  if (!making.value) emit('close')
}
onBeforeUnmount(() => {
  stopped.value = true
})
</script>

<style scoped>
h2 {
  font-size: 15px;
}
.phrase {
  display: flex;
  align-items: center;
  gap: 8px;
  margin: 8px 0;
  font-size: 13px;
}
.phrase > .v-selection-control,
.key > .v-selection-control {
  flex: none;
}
.keys {
  font-size: 13px;
}
.keys > .muted {
  margin-left: 8px;
}
.key {
  display: flex;
  align-items: center;
  gap: 8px;
  min-height: 30px;
}
.film {
  width: 100%;
  max-height: 44vh;
  background: #0f1b2d;
}
.nowrap {
  white-space: nowrap;
}
.path {
  overflow-wrap: anywhere;
}
.sp {
  flex: 1;
}
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
