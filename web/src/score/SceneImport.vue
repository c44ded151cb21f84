<!-- Meshes that move, curves and cameras of a file, put into the study; what the file does not say is asked, with
     pictures. -->
<template>
  <FilePick
    ref="picker"
    accept=".usd,.usda,.usdc,.glb,.gltf,.obj,.ply,.stl"
    testid="scene-file"
    several
    @file="(_, all) => begin(all)"
  />
  <v-dialog :model-value="!!asked" width="620" @update:model-value="asked = null">
    <v-card v-if="asked && files.length" class="ask" data-testid="scene-dialog">
      <h2>{{ title }}</h2>
      <template v-if="asked.asks?.includes('up')">
        <p>The file does not say which axis is up. Which of these stands right?</p>
        <div class="both" role="radiogroup" aria-label="Which axis is up">
          <v-btn
            v-for="u in UPS"
            :key="u"
            class="plain way"
            role="radio"
            :aria-checked="up === u"
            :data-testid="`scene-up-${u}`"
            @click="up = u"
          >
            <img
              v-if="asked.pictures?.[u]"
              :src="`data:image/png;base64,${asked.pictures[u]}`"
              :alt="`As it stands with ${u} up`"
              width="240"
              height="200"
            />
            <span>{{ u }} is up</span>
          </v-btn>
        </div>
      </template>
      <template v-if="asked.asks?.includes('unit')">
        <p>It does not say in which unit its lengths are.</p>
        <div class="phrase">
          <PickOne v-model="unit" :items="UNITS" label="Unit of lengths" testid="scene-unit" />
          <span v-if="asked.size" class="muted num" data-testid="scene-size">{{ sizeWords }}</span>
        </div>
      </template>
      <p v-for="note in asked.notes" :key="note" class="muted">{{ note }}</p>
      <div class="phrase">
        <v-btn class="go" :disabled="busy" data-testid="scene-go" @click="take">Import</v-btn>
        <v-btn variant="outlined" @click="asked = null">Cancel</v-btn>
      </div>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { computed, ref } from 'vue'
import { uploadScene } from '../api/client'
import type { components } from '../api/schema'
import FilePick from '../controls/FilePick.vue'
import PickOne from '../controls/PickOne.vue'
import { freshId, freshName } from '../lib/fresh'
import { shown } from '../lib/quantity'
import { useStudy } from '../stores/study'

const emit = defineEmits<{ busy: [words: string]; said: [words: string]; failed: [words: string] }>()
const UPS = ['Z', 'Y'] as const
const METRES = { m: 1, dm: 0.1, cm: 0.01, mm: 0.001, in: 0.0254, ft: 0.3048 }
const UNITS: { id: keyof typeof METRES; name: string }[] = [
  { id: 'm', name: 'metres' },
  { id: 'dm', name: 'decimetres' },
  { id: 'cm', name: 'centimetres' },
  { id: 'mm', name: 'millimetres' },
  { id: 'in', name: 'inches' },
  { id: 'ft', name: 'feet' },
]
const study = useStudy()
const picker = ref<InstanceType<typeof FilePick> | null>(null)
const files = ref<File[]>([])
const asked = ref<components['schemas']['SceneOut'] | null>(null)
const up = ref<(typeof UPS)[number]>('Z')
const unit = ref<keyof typeof METRES>('m')
const busy = ref(false)
const sizeWords = computed(() => `it is then ${shown((asked.value?.size ?? 0) * METRES[unit.value], 3)} m long`)

/** The file, or the ends of a sequence. */
const title = computed(() => {
  const all = files.value
  return all.length > 1 ? `${all[0].name} … ${all[all.length - 1].name}` : (all[0]?.name ?? '')
})

async function begin(chosen: File[]) {
  files.value = chosen.sort((a, b) => a.name.localeCompare(b.name, 'en', { numeric: true }))
  await send('', '')
}
async function take() {
  const { asks = [] } = asked.value ?? {}
  await send(asks.includes('up') ? up.value : '', asks.includes('unit') ? unit.value : '')
}
async function send(upSaid: string, unitSaid: string) {
  busy.value = true
  emit('busy', files.value.length > 1 ? `importing ${files.value.length} files …` : `importing ${title.value} …`)
  emit('said', '')
  emit('failed', '')
  try {
    await study.flush()
    const made = await uploadScene(study.key, files.value, upSaid, unitSaid)
    asked.value = made.asks?.length ? made : null
    if (!asked.value) put(made, title.value)
  } catch (error) {
    asked.value = null
    emit('failed', (error as Error).message)
  }
  emit('busy', '')
  busy.value = false
}
function put(made: components['schemas']['SceneOut'], name: string) {
  const ids: string[] = []
  study.edit(`Import ${name}`, (d) => {
    for (const shape of made.shapes ?? []) {
      const id = freshId(
        shape.name,
        d.shapes.map((s) => s.id),
      )
      ids.push(id)
      d.shapes.push({ id, shown: true, ...shape } as never)
    }
    const views = [...((d.looks.views ?? []) as unknown as { name: string }[])]
    for (const view of (made.views ?? []) as { name: string }[])
      views.push({
        ...view,
        name: freshName(
          view.name,
          views.map((v) => v.name),
        ),
      })
    if (made.views?.length) d.looks.views = views as never
  })
  if (ids.length) study.select({ kind: 'shape', id: ids[0] })
  const [first, last] = made.frames ?? []
  const words = [
    ...(first !== undefined && last > first ? [`frames ${first} to ${last}`] : []),
    ...(made.views?.length ? [`${made.views.length} viewpoint${made.views.length > 1 ? 's' : ''}`] : []),
    ...(made.notes ?? []),
  ]
  if (words.length) emit('said', `${name}: ${words.join('; ')}`)
}
defineExpose({ open: () => picker.value?.open() })
</script>

<style scoped>
h2 {
  font-size: 15px;
}
.both {
  display: flex;
  gap: 14px;
}
.way {
  border: 2px solid var(--line);
  border-radius: 4px;
  padding: 8px;
  display: grid;
  gap: 4px;
  justify-items: center;
}
.way[aria-checked='true'] {
  border-color: rgb(var(--v-theme-primary));
}
.phrase {
  display: flex;
  align-items: center;
  gap: 8px;
  margin: 8px 0;
}
</style>
