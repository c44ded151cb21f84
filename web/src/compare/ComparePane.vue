<template>
  <section class="pane" :aria-label="title" :data-ready="ready" :data-testid="testid">
    <div class="head"><slot /></div>
    <div ref="host" class="view">
      <p v-if="said" class="said" role="status">{{ said }}</p>
    </div>
  </section>
</template>

<script setup lang="ts">
import * as THREE from 'three'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Packed } from '../api/client'
import type { FlowLook, StudyDoc, Vec3 } from '../api/model'
import { DRAWN_MESH, standsFor, type Frame } from '../forms/frames'
import { makeLayer, type Layer } from '../forms/layers'
import { shapesThat } from '../kinds/roles'
import { clear } from '../scene/materials'
import { drawShapes } from '../scene/shapes'
import { Viewer } from '../scene/viewer'
import { useCatalogue } from '../stores/catalogue'
import type { SceneFacts } from '../stores/look'

const props = defineProps<{
  title: string
  testid: string
  doc: StudyDoc
  scene: Packed<SceneFacts> | null
  frame: Frame | null
  look: FlowLook
  said: string
  box: { lower: Vec3; upper: Vec3 } | null
  camera: ReturnType<Viewer['viewpoint']> | null
  /** Whether the camera is only where everything is seen: nobody has turned it yet. */
  framed: boolean
}>()
const emit = defineEmits<{ turned: [view: ReturnType<Viewer['viewpoint']>, framed: boolean] }>()
const listed = useCatalogue()
const host = ref<HTMLElement | null>(null)
const ready = ref('')
let viewer: Viewer | null = null
let watcher: ResizeObserver | null = null
let following = false
const shapes = new THREE.Group()
/** One layer a result of the frame. */
const results = new Map<string, Layer>()

function draw() {
  if (!viewer) return
  const { frame, look } = props
  const range: [number, number] = [look.low ?? frame?.low ?? 0, look.high ?? frame?.high ?? 1]
  for (const { name, form } of frame?.parts ?? []) {
    if (results.has(`${name} ${form}`)) continue
    const layer = makeLayer(form, () => viewer?.depths ?? null)
    results.set(`${name} ${form}`, layer)
    viewer.scene.add(layer.object)
  }
  for (const [key, layer] of results) layer.show(partFor(key), look, range, false)
  viewer.draw(true)
  ready.value = frame ? `${frame.frame} ${frame.colour}` : ''
}
function partFor(key: string) {
  const part = props.frame?.parts.find((p) => `${p.name} ${p.form}` === key)
  const mesh = props.frame?.parts.find((p) => p.name === DRAWN_MESH)
  return part && !standsFor(mesh, part, props.frame?.parts[0].name, props.look) ? part : null
}
function solids() {
  if (!viewer) return
  const outlined = shapesThat(props.doc, 'emits')
  const solid = new Set(props.scene?.facts.shapes.map((s) => s.id).filter((id) => !outlined.has(id)))
  drawShapes(shapes, props.scene, props.doc, { selected: null, solid, outlined })
  if (props.box) {
    following = true
    viewer.frame(props.box.lower, props.box.upper, [-0.35, -0.86, 0.42])
    if (!props.camera || props.framed) emit('turned', viewer.viewpoint(), true) // the last to be framed frames all
    following = false
  }
  follow()
  viewer.draw(true)
}
/** The other pictures follow the one that is turned. */
function follow() {
  if (!viewer || !props.camera || following) return
  following = true
  viewer.goTo(props.camera)
  following = false
}
onMounted(() => {
  viewer = new Viewer(host.value!)
  viewer.onCoarse = (on) => results.forEach((layer) => layer.draft(on))
  viewer.gas = () => [...results.values()].flatMap((layer) => layer.gas() ?? [])
  viewer.light(listed.lightOf(props.doc))
  viewer.scene.add(shapes)
  viewer.controls.addEventListener('change', () => {
    if (viewer && !following) {
      following = true
      emit('turned', viewer.viewpoint(), false)
      following = false
    }
  })
  watcher = new ResizeObserver(() => {
    viewer?.resize()
    if (props.framed) solids()
  })
  watcher.observe(host.value!)
  viewer.resize()
  solids()
  draw()
})
onBeforeUnmount(() => {
  watcher?.disconnect()
  clear(shapes)
  results.forEach((layer) => layer.dispose())
  viewer?.dispose()
})
watch(() => [props.frame, props.look], draw)
watch(() => [props.scene, props.box], solids)
watch(() => props.camera, follow)
</script>

<style scoped>
.pane {
  display: grid;
  grid-template-rows: 30px 1fr;
  min-width: 0;
  min-height: 0;
  border-right: 1px solid var(--line);
  border-bottom: 1px solid var(--line);
}
.head {
  display: flex;
  align-items: center;
  gap: 8px;
  padding: 0 10px;
  min-width: 0;
}
.view {
  position: relative;
  overflow: hidden;
  background: #0f1b2d;
  min-height: 0;
  touch-action: none;
}
.view :deep(canvas) {
  display: block;
  position: absolute;
  inset: 0;
}
.said {
  position: absolute;
  inset: 0;
  display: grid;
  place-items: center;
  color: #c9d3e6;
  z-index: 1;
  pointer-events: none;
  padding: 20px;
  text-align: center;
}
</style>
