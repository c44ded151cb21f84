<template>
  <div class="score" role="region" aria-label="Score" data-testid="score">
    <div class="lane">
      <div class="h">
        <b>Shapes</b><span>{{ study.doc?.shapes.length || 'none yet' }}</span>
      </div>
      <div class="steps">
        <PartCard
          v-for="s in study.doc?.shapes"
          :key="s.id"
          :title="s.name"
          :line="shapeLine(s)"
          :icon="kindIcon(s.kind)"
          :selected="is('shape', s.id)"
          :bad="look.scene?.facts.errors[`shapes.${s.id}`]"
          :dim="!s.shown"
          :testid="`shape-${s.id}`"
          @select="study.select({ kind: 'shape', id: s.id })"
          @remove="removeShape(s)"
        />
        <v-menu>
          <template #activator="{ props }"
            ><v-btn class="plain plus" v-bind="props" aria-label="Add a shape" data-testid="add-shape"
              >+</v-btn
            ></template
          >
          <v-list density="compact" min-width="260">
            <v-list-item
              data-testid="import-mesh"
              title="Import a mesh…"
              subtitle="OBJ, STL, PLY, glTF"
              @click="picker?.open()"
            />
            <v-list-item
              data-testid="import-scene"
              title="Import a scene…"
              subtitle="what moves, curves, cameras: USD, glTF"
              @click="scenes?.open()"
            />
            <v-list-item
              v-for="e in study.catalogue.shapes.filter((x) => x.id !== 'mesh')"
              :key="e.id"
              :title="e.label"
              :subtitle="whyNotShape(e) || e.yields"
              :disabled="!!whyNotShape(e)"
              :data-testid="`new-shape-${e.id}`"
              @click="addShape(e)"
            />
          </v-list>
        </v-menu>
        <FilePick ref="picker" accept=".obj,.stl,.ply,.glb,.gltf" testid="mesh-file" @file="importMesh" />
        <SceneImport
          ref="scenes"
          @busy="(w) => (importing = w)"
          @failed="(w) => (importError = w)"
          @said="(w) => (imported = w)"
        />
        <span class="sep" />
        <span class="sub">Regions</span>
        <PartCard
          v-for="r in study.doc?.regions"
          :key="r.id"
          :title="r.name"
          :line="regionLine(r.id)"
          :icon="mdiCubeOutline"
          :selected="is('region', r.id)"
          :bad="look.scene?.facts.errors[`regions.${r.id}`]"
          :testid="`region-${r.id}`"
          @select="study.select({ kind: 'region', id: r.id })"
          @remove="removeRegion(r.id)"
        />
        <v-btn
          v-tip="'Add a region'"
          class="plain plus"
          aria-label="Add a region"
          data-testid="add-region"
          @click="addRegion"
        >
          +
        </v-btn>
        <div v-if="importing || importError || imported" class="arrived">
          <span v-if="importing" class="muted" role="status">{{ importing }}</span>
          <span v-else-if="importError" class="bad" role="alert" data-testid="import-error">{{ importError }}</span>
          <span v-else role="status" data-testid="imported">{{ imported }}</span>
          <v-btn v-if="!importing" class="plain" @click="importError = imported = ''">dismiss</v-btn>
        </div>
      </div>
    </div>
    <v-menu
      v-if="cardMenu"
      :model-value="true"
      :target="[cardMenu.x, cardMenu.y]"
      @update:model-value="cardMenu = null"
    >
      <v-list density="compact" min-width="210" data-testid="card-menu">
        <v-list-item
          v-for="a in cardActions"
          :key="a.name"
          :title="a.name"
          :data-testid="`card-${a.id}`"
          @click="doAction(a.act)"
          ><template #append
            ><span class="kbd">{{ a.key }}</span></template
          ></v-list-item
        >
      </v-list>
    </v-menu>
    <p v-if="told" class="told" role="status">{{ told }}</p>
    <LaneRow v-for="lane in study.lanes" :key="lane.id" :lane="lane" />
    <div class="more">
      <v-btn size="small" data-testid="new-field-lane" :prepend-icon="mdiPlus" @click="addLane()">Field</v-btn>
      <v-btn
        v-for="k in listed.all.kinds"
        :key="k.id"
        v-tip="k.yields"
        size="small"
        :data-testid="`new-${k.id}-lane`"
        :prepend-icon="mdiPlus"
        @click="addFlow(k)"
        >{{ k.label }}</v-btn
      >
    </div>
  </div>
</template>

<script setup lang="ts">
import {
  mdiCircleDouble,
  mdiCircleOutline,
  mdiCone,
  mdiCubeOutline,
  mdiCylinder,
  mdiPill,
  mdiPlus,
  mdiShapeOutline,
  mdiSquareOutline,
  mdiVectorCurve,
  mdiVectorPolygon,
  mdiVectorSelection,
  mdiVectorTriangle,
  mdiVectorBezier,
} from '@mdi/js'
import { storeToRefs } from 'pinia'
import { ref } from 'vue'
import { upload } from '../api/client'
import type { KindEntry, Shape } from '../api/model'
import FilePick from '../controls/FilePick.vue'
import { shown } from '../lib/quantity'
import { roomFor } from '../lib/regions'
import { useCatalogue } from '../stores/catalogue'
import { useLook } from '../stores/look'
import { freshId, freshName } from '../lib/fresh'
import { useStudy } from '../stores/study'
import { copy, cut, duplicate, paste, remove as removeSteps, wrap } from './clipboard'
import LaneRow from './LaneRow.vue'
import SceneImport from './SceneImport.vue'
import PartCard from './PartCard.vue'
import { addShape, whyNotShape } from './adding'
import { usesOf, removeUses } from './uses'
import { useDesk } from '../stores/desk'

const study = useStudy()
const { cardMenu, told } = storeToRefs(useDesk())
const look = useLook()
const listed = useCatalogue()
const picker = ref<{ open: () => void } | null>(null)
const scenes = ref<InstanceType<typeof SceneImport> | null>(null)
const importing = ref('')
const importError = ref('')
/** What came in, in words. */
const imported = ref('')

const cardActions = [
  { id: 'copy', name: 'Copy', key: 'Ctrl C', act: () => void copy() },
  { id: 'cut', name: 'Cut', key: 'Ctrl X', act: cut },
  { id: 'paste', name: 'Paste after this', key: 'Ctrl V', act: paste },
  { id: 'duplicate', name: 'Duplicate', key: 'Ctrl D', act: duplicate },
  { id: 'wrap', name: 'Wrap into a lane of its own', key: 'W', act: wrap },
  { id: 'remove', name: 'Remove', key: 'Del', act: () => removeSteps() },
]
function doAction(act: () => void) {
  act()
  cardMenu.value = null
}
const is = (kind: string, id: string) => study.selection?.kind === kind && study.selection.id === id
const kindIcon = (kind: string) =>
  ({
    sphere: mdiCircleOutline,
    box: mdiSquareOutline,
    cylinder: mdiCylinder,
    mesh: mdiVectorPolygon,
    curve: mdiVectorCurve,
    cone: mdiCone,
    torus: mdiCircleDouble,
    capsule: mdiPill,
    field_surface: mdiShapeOutline,
    deformed: mdiVectorSelection,
    run_mesh: mdiVectorTriangle,
    deformed_curve: mdiVectorBezier,
  })[kind] ?? mdiSquareOutline
function shapeLine(s: Shape) {
  const f = look.scene?.facts.shapes.find((x) => x.id === s.id)
  const size = f ? f.upper.map((v, i) => shown(v - f.lower[i], 2)).join(' × ') + ' m' : ''
  return s.kind === 'mesh' ? String(s.params.file ?? 'no file') : s.kind === 'plane' ? 'half space' : size
}
function regionLine(id: string) {
  const r = look.scene?.facts.regions.find((x) => x.id === id)
  return r ? `${r.shape.join(' × ')} · ${shown(r.voxel_size)} m` : ''
}
async function importMesh(file: File) {
  importing.value = `importing ${file.name} …`
  importError.value = imported.value = ''
  try {
    await study.flush()
    const made = await upload(`/studies/${study.key}/meshes`, file)
    const name = made.file.replace(/\.\w+$/, '').replace(/[_-]+/g, ' ')
    const id = freshId(
      name,
      study.doc!.shapes.map((s) => s.id),
    )
    study.edit(`Import ${made.file}`, (d) =>
      d.shapes.push({
        id,
        name: name[0].toUpperCase() + name.slice(1),
        kind: 'mesh',
        shown: true,
        params: { file: made.file },
      }),
    )
    study.select({ kind: 'shape', id })
    if (made.notes.length) imported.value = `${made.file}: ${made.notes.join('; ')}`
  } catch (error) {
    importError.value = (error as Error).message
  }
  importing.value = ''
}
function addRegion() {
  const s = study.selection
  const made = roomFor(study.doc!, s?.kind === 'shape' ? s.id : undefined)
  study.edit('Add a region', (d) => d.regions.push(made))
  study.select({ kind: 'region', id: made.id })
}
function removeShape(s: Shape) {
  const uses = usesOf(study.doc!, 'shape', s.id)
  if (uses.length && !confirm(`${s.name} is used by ${uses.join(', ')}. Remove it and these uses?`)) return
  study.edit(`Remove ${s.name}`, (d) => {
    removeUses(d, 'shape', s.id)
    d.shapes = d.shapes.filter((x) => x.id !== s.id)
  })
  study.select(null)
}
function removeRegion(id: string) {
  const uses = usesOf(study.doc!, 'region', id)
  if (uses.length && !confirm(`The region is used by ${uses.join(', ')}. Remove it and these uses?`)) return
  study.edit('Remove the region', (d) => {
    removeUses(d, 'region', id)
    d.regions = d.regions.filter((x) => x.id !== id)
  })
  study.select(null)
}
const names = () => study.lanes.map((l) => l.name)
function addLane() {
  const id = freshId(
    'Field',
    study.lanes.map((l) => l.id),
  )
  study.edit('Add a field', (d) => {
    d.fields.push({ id, name: freshName('Field', names()), steps: [] })
  })
  study.select({ kind: 'lane', id })
}
function addFlow(kind: KindEntry) {
  const id = freshId(
    kind.label,
    study.lanes.map((l) => l.id),
  )
  const name = freshName(kind.label, names())
  study.edit(`Add a flow: ${name}`, (d) => d.flows.push({ id, name, kind: kind.id, steps: [] }))
  study.select({ kind: 'lane', id })
}
</script>

<style>
.score {
  overflow: auto;
  min-height: 0;
}
.lane {
  display: grid;
  grid-template-columns: 138px 1fr;
  min-height: 52px;
  border-bottom: 1px solid var(--line);
}
.lane .h {
  padding: 5px 12px;
  border-right: 1px solid var(--line);
  position: relative;
}
.lane .h b {
  display: block;
  font-weight: 600;
}
.lane .h span {
  color: var(--muted);
  font-size: 11.5px;
}
.lane .steps {
  display: flex;
  align-items: center;
  padding: 2px 8px;
  overflow-x: auto;
  gap: 0;
}
.score .plus {
  flex: none;
  width: 28px;
  height: 28px;
  border: 1px dashed var(--muted);
  border-radius: 50%;
  color: var(--muted);
  margin: 0 10px;
  font-size: 16px;
}
.score .plus:hover {
  border-color: var(--signal);
  color: var(--signal-text);
}
.score .sep {
  border-left: 1px solid var(--line);
  height: 40px;
  margin: 0 10px 0 4px;
}
.score .sub {
  font-weight: 600;
  margin-right: 10px;
}
.score .arrived {
  position: fixed;
  left: 150px;
  bottom: 14px;
  z-index: 5;
  max-width: 70vw;
  padding: 8px 14px;
  display: flex;
  gap: 14px;
  background: var(--card);
  border: 1px solid var(--line);
  box-shadow: 0 2px 8px rgb(0 0 0 / 20%);
}
.score .arrived button {
  text-decoration: underline;
}
.score .told {
  position: absolute;
  right: 14px;
  top: 6px;
  background: var(--soft);
  padding: 2px 10px;
  border-radius: 3px;
  z-index: 3;
}
.score .more {
  padding: 6px 8px;
}
.score .bad {
  color: rgb(var(--v-theme-error));
}
.score .bad button {
  text-decoration: underline;
}
</style>
