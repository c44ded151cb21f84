<!-- A flipbook of what the view shows: which frames, how large, from where; made, played and taken along. -->
<template>
  <v-dialog :model-value="true" width="860" persistent @update:model-value="close">
    <v-card class="ask" data-testid="flipbook-dialog">
      <h2>Flipbook</h2>
      <p class="muted">A picture a frame, and a film of them (H.264).</p>
      <div class="phrase">
        <span>Drawn</span><PickOne v-model="how" :items="WAYS" label="How it is drawn" testid="flip-how" />
        <template v-if="how === 'lit'"
          ><span>in</span><PickOne v-model="quality" :items="QUALITIES" label="Quality" testid="flip-quality"
        /></template>
      </div>
      <div class="phrase">
        <span>Frames</span>
        <NumberField :value="first" label="First frame" integer testid="flip-first" @change="(v) => (first = v)" />
        <span>to</span>
        <NumberField :value="last" label="Last frame" integer testid="flip-last" @change="(v) => (last = v)" />
        <span>in</span><PickOne v-model="size" :items="SIZES" label="Size of pictures" testid="flip-size" />
        <v-btn v-if="how === 'lit'" variant="outlined" data-testid="flip-one" @click="first = last = runs.frame"
          >Only frame {{ runs.frame }}</v-btn
        >
        <TickBox v-if="how === 'view'" v-model="words" words="frame number" testid="flip-words" />
        <TickBox v-if="how === 'view'" v-model="tools" words="probe, slice, boxes" testid="flip-tools" />
        <TickBox v-if="how === 'view' && legend && tools" v-model="withLegend" words="legend" testid="flip-legend" />
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
      <p v-if="problem || lit.problem.value" class="bad" role="alert" data-testid="flip-problem">
        {{ problem || lit.problem.value }}
      </p>
      <div v-if="making" class="phrase" data-testid="flip-progress">
        <v-progress-linear
          :model-value="share"
          height="4"
          color="success"
          :aria-label="encoded ? 'Film made' : 'Pictures made'"
        />
        <span class="num nowrap">{{ progress }}</span>
      </div>
      <div v-if="lit.going.value" class="phrase" data-testid="flip-drawing">
        <v-progress-linear :model-value="drawnShare" height="4" color="success" aria-label="Drawn" />
        <span class="num nowrap">{{ drawnWords }}</span>
      </div>
      <img v-if="lit.newest.value" class="film" :src="lit.newest.value" alt="The picture that was drawn last" />
      <template v-for="u in resting" :key="u.id">
        <div class="phrase" data-testid="flip-unfinished">
          <span
            >Frames {{ u.first }} to {{ u.last }}, {{ u.width }} × {{ u.height }}: {{ u.drawn }} of
            {{ u.last - u.first + 1 }} drawn</span
          >
          <span class="sp" />
          <v-btn variant="outlined" data-testid="flip-go-on" @click="lit.goOn(u)">Go on</v-btn>
          <v-btn class="plain" :aria-label="`Forget frames ${u.first} to ${u.last}`" @click="lit.forget(u)">×</v-btn>
        </div>
      </template>
      <img
        v-if="made && !busy && made.first === made.last"
        class="film"
        :src="`${base}/${made.id}/frames/${made.first}`"
        :alt="`Frame ${made.first}`"
        data-testid="flip-still"
      />
      <video
        v-else-if="made && !busy"
        :key="made.id"
        class="film"
        controls
        loop
        muted
        autoplay
        :src="`${base}/${made.id}/movie`"
        data-testid="flip-film"
      />
      <p v-if="made && !busy" class="muted">
        {{ made.first === made.last ? 'A picture' : `${made.last - made.first + 1} pictures` }} of {{ made.width }} ×
        {{ made.height }}, {{ bytes(made.bytes) }}, in <span class="path">{{ made.path }}</span>
      </p>
      <p v-for="note in lit.told.value?.notes" :key="note" class="muted" data-testid="flip-note">{{ note }}</p>
      <div class="phrase">
        <v-btn v-if="!busy" class="go" data-testid="flip-go" @click="begin">{{
          made ? 'Make another' : 'Make it'
        }}</v-btn>
        <v-btn v-else variant="outlined" data-testid="flip-stop" @click="halt">Stop</v-btn>
        <template v-if="made && !busy">
          <v-btn
            v-if="made.first === made.last"
            variant="outlined"
            :href="`${base}/${made.id}/frames/${made.first}?save=true`"
            data-testid="flip-save-still"
            >Save picture</v-btn
          >
          <template v-else>
            <v-btn variant="outlined" :href="`${base}/${made.id}/movie?save=true`" data-testid="flip-save-film"
              >Save film</v-btn
            >
            <v-btn variant="outlined" :href="`${base}/${made.id}/zip`" data-testid="flip-save-all">Save pictures</v-btn>
          </template>
        </template>
        <span class="sp" />
        <v-btn v-if="!making" variant="outlined" data-testid="flip-close" @click="close">Close</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
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
import { useLit, type Made, type Progress as Encoding } from './lit'

type Key = components['schemas']['Key']
const props = defineProps<{ viewer: Viewer; legend: Legend | null }>()
const emit = defineEmits<{ close: [] }>()
/** Whether what one works with is in the film: probe, slice, boxes of regions. */
const tools = defineModel<boolean>('tools', { required: true })
/** How long a frame may take until it is drawn. */
const PATIENCE = 120_000
const SIZES = [
  { id: '640x400', name: '640 × 400' },
  { id: '960x600', name: '960 × 600' },
  { id: '1280x800', name: '1280 × 800' },
  { id: '1920x1080', name: '1920 × 1080' },
]
const WAYS = [
  { id: 'view', name: 'as the view shows it' },
  { id: 'lit', name: 'in full light, by the server' },
]
const QUALITIES = [
  { id: 'draft', name: 'draft quality' },
  { id: 'good', name: 'good quality' },
  { id: 'still', name: 'still quality: slow' },
]
const study = useStudy()
const runs = useRuns()
const lit = useLit(() => study.key)
onMounted(() => void lit.listed().catch(() => undefined))
const how = ref('view')
const quality = ref('good')
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

const busy = computed(() => making.value || lit.going.value)
/** Begun and not done, and nobody works at them. */
const resting = computed(() => lit.left.value.filter((u) => !(lit.going.value && u.id === lit.id.value)))
const drawnShare = computed(() => (lit.told.value ? (100 * lit.told.value.done) / lit.told.value.total : 0))
const drawnWords = computed(() => {
  const t = lit.told.value
  return t ? `${t.drawing ? '' : 'film: '}${t.done} of ${t.total}${ahead(t.left)}` : ''
})
watch(
  () => lit.told.value?.film,
  (film) => film && (made.value = film),
)
const outside = () => {
  const { start, end } = runs.clock
  const is = first.value < start || last.value > end || first.value > last.value
  problem.value = is ? `Frames ${first.value} to ${last.value} are not in the study's ${start} to ${end}` : ''
  return is
}
/** What goes: by the server it keeps what it has. */
function halt() {
  if (lit.going.value) void lit.stop()
  else stopped.value = true
}
const begin = () => (how.value === 'lit' ? draw() : make())
/** By the server, of what is shown, from where the view stands or through its viewpoints. */
async function draw() {
  if (outside()) return
  const [width, height] = size.value.split('x').map(Number)
  const flows = Object.keys(runs.wanted).filter((flow) => runs.lookOf(flow).shown)
  flows.sort((a, b) => Number(b === runs.main) - Number(a === runs.main))
  const here: Key = { frame: first.value, ...props.viewer.viewpoint() }
  made.value = null
  await lit.draw({
    name: study.doc?.name ?? study.key,
    first: first.value,
    last: last.value,
    width,
    height,
    fps: runs.clock.fps,
    note: `in full light, ${quality.value}`,
    runs: flows.map((flow) => runs.wanted[flow]),
    views: keys.value.length ? keys.value : [here],
    quality: quality.value,
  })
}
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
  let id = ''
  if (outside()) return
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
      burn(picture, words.value ? `${name}  ${frame}` : '', withLegend.value && tools.value ? props.legend : null)
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
  object-fit: contain;
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
