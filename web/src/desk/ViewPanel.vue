<template>
  <div
    ref="host"
    class="view"
    data-testid="view"
    :data-particles="partOf(runs.current, 'points')?.head.count ?? 0"
    :data-gas="partOf(runs.current, 'volume')?.head.count ?? 0"
    :data-surface="runs.drawn[runs.main]?.facts.mesh?.count ?? partOf(runs.current, 'mesh')?.head.count ?? 0"
    :data-lines="runs.drawn[runs.main]?.shapes['lines.counts']?.[0] ?? 0"
    @pointermove="hover"
    @pointerleave="spot = null"
  >
    <v-btn
      v-if="shows.alone"
      v-tip="'Back to the Desk'"
      class="leave"
      variant="outlined"
      data-testid="leave-alone"
      @click="shows.alone = false"
      >Esc</v-btn
    >
    <div v-show="!shows.alone" class="peek">
      <template v-if="shows.peek"><b>before this step</b></template>
      <template v-else-if="look.target?.step">hold <span class="kbd">B</span> to see it without this step</template>
      <span v-if="runs.run && !runs.ready.has(runs.frame)" class="stale" data-testid="not-yet"
        >frame {{ runs.frame }} is not computed yet{{ runs.current ? `; this is ${runs.current.frame}` : '' }}</span
      >
      <span v-if="runs.stale" class="stale">frames of the version before, until new ones arrive</span>
    </div>
    <ViewBar
      v-if="!shows.alone"
      @frame="lookAt"
      @turn="
        (w) => {
          taken = true
          viewer?.turnTo(w)
        }
      "
      @go="goTo"
      @keep="keepView"
      @picture="savePicture"
      @flipbook="filming = true"
      @alone="shows.alone = true"
      @expose="fitExposure"
    />
    <FlipbookDialog
      v-if="filming && viewer"
      v-model:tools="filmsTools"
      :viewer="viewer"
      :legend="legend"
      @close="filming = false"
    />
    <template v-if="shows.split"
      ><i class="half" /><span class="tag left">before</span><span class="tag right">after</span></template
    >
    <p v-if="shows.drawing" class="drawing" data-testid="drawing">
      Click on the probe or on a shape to add points ·
      <v-btn class="plain" @click="shows.drawing = ''">done (Esc)</v-btn>
    </p>
    <LateNote />
    <span v-if="hotHandle" class="handle num">{{ hotHandle }}</span>
    <ViewLegend
      v-if="legend && !shows.alone"
      :legend="legend"
      :barb="shows.glyph === 'barbs' && look.slice?.facts.kind === 'vector' ? unit : null"
    />
    <div v-if="spot && !shows.alone" class="read num" data-testid="cursor">
      x {{ spot.at[0].toFixed(2) }} y {{ spot.at[1].toFixed(2) }} z {{ spot.at[2].toFixed(2) }} m<br />{{ spot.text }}
    </div>
  </div>
</template>

<script setup lang="ts">
import * as THREE from 'three'
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { newest } from '../api/client'
import type { Vec3 } from '../api/model'
import { partOf } from '../forms/frames'
import { shapesThat } from '../kinds/roles'
import { freshName } from '../lib/fresh'
import { shown } from '../lib/quantity'
import { save, taken as tookWords } from '../lib/taken'
import { areDrawn } from '../scene/instances'
import { drawHandles, handlesFor } from '../scene/handles'
import { barbUnit, drawFrame, drawGlyphs, drawLines, drawSlice, drawSurface } from '../scene/probe'
import { drawRegions, drawShapes } from '../scene/shapes'
import { clear } from '../scene/materials'
import { keepSide, sideOf } from '../lib/side'
import { Viewer } from '../scene/viewer'
import { LIGHT } from '../stores/catalogue'
import { useDesk } from '../stores/desk'
import { useLook } from '../stores/look'
import { useView } from '../stores/view'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'
import { FlowLayers } from './flowLayers'
import FlipbookDialog from './flipbook/FlipbookDialog.vue'
import LateNote from './LateNote.vue'
import ViewLegend from './ViewLegend.vue'
import { usePointing } from './pointing'
import ViewBar, { type Viewpoint } from './ViewBar.vue'

const study = useStudy()
const desk = useDesk()
const runs = useRuns()
const look = useLook()
const shows = useView()
const host = ref<HTMLElement | null>(null)
const spot = ref<{ at: Vec3; text: string } | null>(null)
const unit = computed(() => barbUnit(look.mapping.high))
const laneName = computed(() => look.gas?.name ?? study.laneOf(look.target?.lane ?? '')?.name ?? '')
/** Whether a flipbook is made. */
const filming = ref(false)
/** Whether probe, slice and boxes of regions are in pictures and films of the view. */
const filmsTools = ref(false)
const legend = computed(() => {
  const facts = look.slice?.facts
  if (!facts || facts.kind === 'none' || !(shows.showSlice || shows.showProbe)) return null
  const title = `${facts.kind === 'vector' ? 'speed' : 'value'} · ${laneName.value}`
  return { title, unit: facts.unit, ...look.mapping }
})
let viewer: Viewer | null = null
/** What one works with, and a picture is without: probe, slice, boxes of regions, what is held. */
const tools = new THREE.Group()
let watcher: ResizeObserver | null = null
const layers = {
  shapes: new THREE.Group(),
  regions: new THREE.Group(),
  slice: new THREE.Group(),
  glyphs: new THREE.Group(),
  lines: new THREE.Group(),
  surface: new THREE.Group(),
  sliceBefore: new THREE.Group(),
  glyphsBefore: new THREE.Group(),
  frame: new THREE.Group(),
  handles: new THREE.Group(),
}
/** The box the camera shows, and whether the user has taken the camera: until then it follows the box. */
let framed = ''
let taken = false

const selectedRegion = computed(() => (study.selection?.kind === 'region' ? study.selection.id : null))
const selectedId = computed(() => {
  const s = study.selection
  if (s?.kind === 'shape') return s.id
  const shape = study.selectedStep?.params.shape
  return typeof shape === 'string' ? shape : null
})
/** The flow whose lane is selected: its window is outlined. */
const selectedFlow = computed(() => {
  const s = study.selection
  return s?.kind === 'lane' ? s.id : s?.kind === 'step' ? s.lane : ''
})
/** Shapes in the way of something: of a flow, or that a field is led around. */
const obstacles = computed(() => (study.doc ? shapesThat(study.doc, 'blocks') : new Set<string>()))
/** Shapes that bring a flow in that is shown: it is to be seen, and not them; what instances stand on stays. */
const emitting = computed(() => {
  if (!study.doc || !shows.showFlows) return new Set<string>()
  const stoodOn = shapesThat(study.doc, 'emits', (lane) => areDrawn(runs.drawn[lane] ?? null))
  const all = shapesThat(study.doc, 'emits', (lane) => runs.lookOf(lane).shown && !!runs.shown[lane])
  return new Set([...all].filter((id) => !stoodOn.has(id)))
})
function shapesAndRegions() {
  if (!viewer) return
  layers.shapes.visible = shows.showShapes
  const parts = { selected: selectedId.value, solid: obstacles.value, outlined: emitting.value }
  drawShapes(layers.shapes, look.scene, study.doc, parts)
  drawRegions(layers.regions, look.scene, selectedRegion.value)
  const box =
    look.scene && look.scene.facts.shapes.length + look.scene.facts.regions.length ? JSON.stringify(look.box) : ''
  if (box && box !== framed && !taken) {
    framed = box
    frame(true)
  } else viewer.draw(true)
}
function probe() {
  if (!viewer) return
  const w = look.window
  const vector = look.slice?.facts.kind === 'vector'
  const onPlane = !shows.place.startsWith('shape:')
  const glyph = shows.glyph
  const wanted = shows.showProbe && vector && (glyph === 'barbs' || glyph === 'arrows')
  const style = {
    glyph: glyph === 'arrows' ? 'arrows' : 'barbs',
    coloured: !shows.showSlice || shows.place === 'box',
    length: shows.glyphLength,
    width: shows.glyphWidth,
  } as const
  const deep = new THREE.Vector3().setComponent(shows.axis, look.box.upper[shows.axis] - look.box.lower[shows.axis])
  layers.slice.visible = shows.showSlice && onPlane && shows.place !== 'box'
  drawSlice(layers.slice, w, look.slice, look.mapping)
  if (wanted && onPlane) drawGlyphs(layers.glyphs, w, look.slice, look.mapping, style, look.box.lower, deep)
  else clear(layers.glyphs)
  if (shows.showProbe && vector && glyph === 'lines')
    drawLines(layers.lines, look.lines, look.mapping, shows.glyphWidth)
  else clear(layers.lines)
  drawSurface(
    layers.surface,
    onPlane ? null : look.surface,
    look.mapping,
    wanted ? { ...style, coloured: false } : null,
  )
  const halves = shows.split && !!look.before && onPlane
  if (halves) {
    drawSlice(layers.sliceBefore, w, look.before, look.mapping)
    if (wanted) drawGlyphs(layers.glyphsBefore, w, look.before, look.mapping, style, look.box.lower, deep)
    else clear(layers.glyphsBefore)
  }
  layers.sliceBefore.visible = layers.glyphsBefore.visible = false
  viewer.split = halves
    ? {
        before: [...(shows.showSlice ? [layers.sliceBefore] : []), layers.glyphsBefore],
        after: [layers.slice, layers.glyphs],
      }
    : null
  drawFrame(layers.frame, w, holdsProbe.value)
  layers.frame.visible = (shows.showProbe || shows.showSlice) && onPlane
  viewer.draw()
  if (look.slice) viewer.open()
}
const handles = computed(() =>
  study.doc ? handlesFor(study.doc, study.selection, look.scene?.facts.shapes, look.scene?.facts.regions) : [],
)
const hotHandle = ref('')
function placeHandles() {
  if (!viewer) return
  drawHandles(layers.handles, handles.value, held.value)
  viewer.draw()
}
let flows: FlowLayers | null = null
function flow() {
  flows?.show(plain.value ? '' : selectedFlow.value)
  viewer?.draw(true)
}
function frame(whole = false) {
  let { lower, upper } = look.box
  const chosen = look.scene?.facts.shapes.find((s) => s.id === selectedId.value && s.bounded)
  if (!whole && chosen) ({ lower, upper } = chosen)
  viewer?.frame(lower, upper, whole ? [-0.35, -0.86, 0.42] : undefined)
}
/** The user's own framing: the camera stays there. */
function lookAt(whole = false) {
  taken = true
  frame(whole)
}
defineExpose({ frame: lookAt, picture: () => viewer?.picture() ?? Promise.resolve(null) })

function fitExposure() {
  const stops = viewer?.fittedExposure()
  if (stops == null) {
    runs.problem = 'Nothing bright enough is in the picture to fit the exposure to'
    return
  }
  study.edit(`Exposure → ${stops} stops`, (d) => {
    d.looks[LIGHT] = { ...d.looks[LIGHT], exposure: stops } as never
  })
}
async function savePicture() {
  tools.visible = false
  const blob = await viewer?.picture(1280, 800).finally(() => {
    tools.visible = !plain.value
    viewer?.draw()
  })
  if (!blob) return
  const name = `${study.key}_${String(runs.frame).padStart(4, '0')}.png`
  save(blob, name)
  desk.taken = tookWords(name, blob.size)
}

function keepView() {
  const v = viewer?.viewpoint()
  if (!v) return
  study.edit('Keep a viewpoint', (d) => {
    const views = (d.looks.views ?? []) as unknown as Viewpoint[]
    const name = freshName(
      `View ${views.length + 1}`,
      views.map((x) => x.name),
    )
    d.looks.views = [...views, { name, ...v }] as never
  })
}
function goTo(v: Viewpoint) {
  taken = true
  viewer?.goTo(v)
  shows.parallel = !!v.parallel
}
let asked = 0
async function hover(event: PointerEvent) {
  if (viewer && !event.buttons && event.target === viewer.renderer.domElement)
    hotHandle.value = handleAt(event)?.name ?? ''
  if (!viewer || !look.target || event.buttons || event.target !== viewer.renderer.domElement) return
  const hit = shows.place.startsWith('shape:')
    ? layers.surface.getObjectByName('probe')
    : layers.frame.visible
      ? layers.frame.getObjectByName('probe')
      : undefined
  const found = hit ? viewer.ray(event).intersectObject(hit)[0] : undefined
  if (!found) {
    spot.value = null
    return
  }
  const at = found.point.toArray() as Vec3
  const mine = ++asked
  await new Promise((done) => setTimeout(done, 40))
  if (mine !== asked) return
  const response = await newest('value', '/look/value', { ...look.probed(), ...look.target, point: at }).catch(
    () => null,
  )
  if (!response || mine !== asked) return
  const said = (await response.json()) as { kind: string; value: number[]; unit: string }
  if (!said.value) return
  const v = said.value
  const toward = (Math.atan2(v[1], v[0]) * 180) / Math.PI
  spot.value = {
    at,
    text:
      said.kind === 'vector'
        ? `|v| ${shown(Math.hypot(...v), 3)} ${said.unit} · toward ${toward.toFixed(0)}°`
        : `${shown(v[0], 4)} ${said.unit}`,
  }
}

onMounted(() => {
  viewer = new Viewer(host.value!)
  viewer.controls.addEventListener('end', leaveSide)
  window.addEventListener('pagehide', leaveSide)
  flows = new FlowLayers(viewer)
  viewer.onCoarse = (on) => flows?.each((layer) => layer.draft(on))
  viewer.gas = () => flows?.each((layer) => layer.gas()).flatMap((g) => g ?? []) ?? []
  viewer.light(runs.light)
  const { shapes, ...worked } = layers
  tools.add(...Object.values(worked))
  viewer.scene.add(shapes, tools)
  viewer.controls.addEventListener('start', () => {
    taken = true
  })
  watcher = new ResizeObserver(() => viewer?.resize())
  watcher.observe(host.value!)
  viewer.resize()
  shapesAndRegions()
  probe()
  flow()
  placeHandles()
})
/** Pages whose pictures are made without this view are seen from its side too. */
const leaveSide = () => {
  if (viewer && study.key) keepSide(study.key, sideOf(viewer.camera.position, viewer.controls.target))
}
onBeforeUnmount(() => {
  leaveSide()
  window.removeEventListener('pagehide', leaveSide)
  watcher?.disconnect()
  for (const g of Object.values(layers)) clear(g)
  flows?.clear()
  viewer?.dispose()
})
// after the viewer's own hook: this one listens on its canvas
const { holdsProbe, held, handleAt } = usePointing({
  viewer: () => viewer,
  handles,
  frame: layers.frame,
  shapes: layers.shapes,
  changed: placeHandles,
  taken: () => {
    taken = true
  },
})
// sources are compared one by one: an edit of a field does not build shapes anew
watch(
  [
    () => look.scene,
    selectedId,
    selectedRegion,
    () => shows.showShapes,
    () => JSON.stringify(study.doc?.shapes.map((s) => [s.id, s.kind, s.shown])),
    () => [...obstacles.value, '|', ...emitting.value].join(),
  ],
  shapesAndRegions,
)
watch(
  () => JSON.stringify(runs.light),
  () => viewer?.light(runs.light),
)
watch(
  [
    () => look.slice,
    () => look.lines,
    () => look.surface,
    () => look.before,
    () => JSON.stringify([look.mapping, look.window]),
    () => shows.split,
    () => shows.place,
    () => shows.glyphLength,
    () => shows.glyphWidth,
    () => shows.glyph,
    () => shows.showProbe,
    () => shows.showSlice,
    holdsProbe,
  ],
  probe,
)
watch(handles, placeHandles)
const plain = computed(() => shows.alone || (filming.value && !filmsTools.value))
watch([plain, filming], () => {
  tools.visible = !plain.value
  layers.handles.visible = !filming.value // what is held is not part of a film
  flow()
})
watch(
  () => shows.parallel,
  (on) => viewer?.setParallel(on),
)
watch(
  () => shows.sharpness,
  () => viewer?.sharpen(),
)
watch(
  [
    () => runs.shown,
    () => runs.drawn,
    () => runs.stale,
    () => shows.showFlows,
    () => JSON.stringify([study.doc?.looks, study.doc?.flows.map((f) => f.id)]),
    selectedFlow,
  ],
  flow,
)
watch(
  () => study.key,
  () => {
    framed = ''
    taken = false
  },
)
</script>

<style scoped>
.view {
  position: relative;
  overflow: hidden;
  background: #0f1b2d;
  min-width: 0;
  min-height: 0;
  touch-action: none;
}
.view :deep(canvas) {
  display: block;
  position: absolute;
  inset: 0;
}
.peek,
.read {
  position: absolute;
  color: #dfe6f2;
  font-size: 11.5px;
  z-index: 1;
}
/* above the picture, which is opaque */
.half,
.tag,
.drawing,
.handle {
  z-index: 1;
}
.peek {
  right: 14px;
  top: 12px;
  color: #c9d3e6;
  text-align: right;
}
.peek .kbd {
  color: #c9d3e6;
  border-color: #5b6b88;
}
.peek b {
  color: #ff9a80;
}
.stale {
  display: block;
  color: #ffc9a0;
}
.half {
  position: absolute;
  left: 50%;
  top: 0;
  bottom: 0;
  border-left: 1px solid #9fb0cc;
  pointer-events: none;
}
.tag {
  position: absolute;
  bottom: 60px;
  color: #dfe6f2;
  font-size: 12px;
  background: #16273f;
  padding: 1px 8px;
  border-radius: 3px;
}
.tag.left {
  right: calc(50% + 10px);
}
.tag.right {
  left: calc(50% + 10px);
}
.drawing {
  position: absolute;
  left: 50%;
  transform: translateX(-50%);
  top: 70px;
  color: #ffc9a0;
  font-size: 12px;
  background: #16273f;
  padding: 3px 12px;
  border-radius: 3px;
}
.drawing button {
  text-decoration: underline;
}
.handle {
  position: absolute;
  right: 14px;
  bottom: 50px;
  color: #ffc9a0;
  font-size: 12px;
  pointer-events: none;
}
.leave {
  position: absolute;
  z-index: 2;
  right: 14px;
  top: 12px;
  color: #c9d3e6;
  background: rgba(22, 39, 63, 0.7);
}
.read {
  right: 14px;
  bottom: 12px;
  text-align: right;
  pointer-events: none;
  text-shadow: 0 0 4px #0f1b2d;
}
</style>
