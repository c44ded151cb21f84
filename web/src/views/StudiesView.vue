<template>
  <div class="page">
    <header class="bar">
      <b>Errant Gust</b><span class="muted">▸</span><span>Studies</span><span class="sp" />
      <TextLine
        class="find"
        stays
        :model-value="query"
        placeholder="Search studies"
        label="Search studies"
        @input="(v) => (query = v)"
      />
      <router-link to="/runs" data-testid="open-runs">Runs</router-link>
      <router-link to="/handbook">Handbook</router-link>
      <v-btn variant="outlined" :prepend-icon="mdiUpload" data-testid="import-study" @click="picker?.open()"
        >Import</v-btn
      >
      <v-btn class="go" data-testid="new-study" @click="beginning = true">New study</v-btn>
      <NewStudy v-model:open="beginning" @begin="(start) => make({ start })" />
      <FilePick ref="picker" accept=".json,.zip" testid="study-file" @file="importStudy" />
    </header>
    <main>
      <p v-if="problem" class="bad" role="alert">{{ problem }}</p>
      <div class="cards">
        <article v-for="s in found" :key="s.key" :data-testid="`study-${s.key}`">
          <router-link
            :to="`/desk/${s.key}`"
            class="pic"
            :aria-label="`Open ${s.name}, ${s.picture ? 'picture' : 'no picture yet'}`"
            ><img v-if="s.picture" :src="`/api/studies/${s.key}/picture?${s.changed}`" alt="" /><span v-else
              >no picture yet</span
            ></router-link
          >
          <div class="words">
            <router-link :to="`/desk/${s.key}`"
              ><b>{{ s.name }}</b></router-link
            >
            <p>{{ s.note || 'No note.' }}</p>
            <div class="foot">
              <span class="muted">{{ toMinute(s.changed) }}</span><span class="sp" /><v-btn
                v-tip="'Download the study with its files as one zip'"
                class="plain"
                :data-testid="`export-${s.key}`"
                @click="take(s)"
              >
                export</v-btn
              ><v-btn class="plain" @click="copy(s)">duplicate</v-btn
              ><v-btn class="plain" :data-testid="`delete-${s.key}`" @click="remove(s)">delete</v-btn>
            </div>
          </div>
        </article>
      </div>
      <p v-if="!studies.length && loaded" class="muted">There is no study yet. Begin with one below.</p>
      <h2>Demo studies to take apart</h2>
      <div class="starts">
        <v-btn v-for="d in demos" :key="d.id" class="plain" :data-testid="`demo-${d.id}`" @click="make({ demo: d.id })">
          <b>{{ d.name }}</b><span>{{ d.note }}</span>
        </v-btn>
      </div>
    </main>
    <v-snackbar v-model="gone" timeout="8000"
      >Deleted {{ goneName
      }}<template #actions
        ><v-btn color="warning" data-testid="undelete" @click="back">Undo</v-btn></template
      ></v-snackbar
    >
  </div>
</template>

<script setup lang="ts">
import { mdiUpload } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, download, uploadStudy, type StudyCard } from '../api/client'
import { taken } from '../lib/taken'
import { toMinute } from '../lib/when'
import { useDesk } from '../stores/desk'
import FilePick from '../controls/FilePick.vue'
import TextLine from '../controls/TextLine.vue'
import NewStudy from './NewStudy.vue'
import type { StudyOut } from '../api/model'

const router = useRouter()
const desk = useDesk()
const studies = ref<StudyCard[]>([])
const demos = ref<{ id: string; name: string; note: string }[]>([])
const loaded = ref(false)
const query = ref('')
const problem = ref('')
const beginning = ref(false)
const picker = ref<{ open: () => void } | null>(null)
const gone = ref(false)
const goneName = ref('')
let goneKey = ''
const found = computed(() =>
  studies.value.filter((s) => `${s.name} ${s.note}`.toLowerCase().includes(query.value.toLowerCase())),
)

async function guarded(work: () => Promise<void>) {
  try {
    problem.value = ''
    await work()
  } catch (error) {
    problem.value = (error as Error).message
  }
}
const load = () =>
  guarded(async () => {
    studies.value = await call<StudyCard[]>('GET', '/studies')
    loaded.value = true
  })
const make = (body: object) =>
  guarded(async () => {
    const made = await call<StudyOut>('POST', '/studies', body)
    await router.push(`/desk/${made.key}`)
  })
const importStudy = (file: File) =>
  guarded(async () => {
    if (file.name.endsWith('.zip')) {
      await router.push(`/desk/${(await uploadStudy(file)).key}`)
      return
    }
    let data: unknown
    try {
      data = JSON.parse(await file.text())
    } catch {
      throw new Error(`${file.name}: not valid JSON; right would be a .gust.json file`)
    }
    const made = await call<StudyOut>('POST', '/studies', { document: data })
    await router.push(`/desk/${made.key}`)
  })
const copy = (s: StudyCard) =>
  guarded(async () => {
    await call('POST', '/studies', { copy_of: s.key })
    await load()
  })
const take = (s: StudyCard) =>
  guarded(async () => {
    const name = `${s.key}.gust.zip`
    desk.taken = taken(name, await download('GET', `/studies/${s.key}/archive`, name))
  })
const remove = (s: StudyCard) =>
  guarded(async () => {
    await call('DELETE', `/studies/${s.key}`)
    goneKey = s.key
    goneName.value = s.name
    gone.value = true
    await load()
  })
const back = () =>
  guarded(async () => {
    await call('POST', `/studies/${goneKey}/undelete`)
    gone.value = false
    await load()
  })
onMounted(() => {
  document.title = 'Studies · Errant Gust'
  void load()
  void guarded(async () => {
    demos.value = await call('GET', '/demos')
  })
})
</script>
