<template>
  <div class="page">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span><span>Handbook</span><span class="sp" />
      <TextLine
        class="find"
        stays
        :model-value="query"
        placeholder="Search the handbook"
        label="Search the handbook"
        @input="(v) => (query = v)"
      />
    </header>
    <main class="book">
      <nav class="toc" aria-label="Contents">
        <a href="#Start">Start here</a><a href="#Ways">Ways of working</a><a href="#Exact">How exact it is</a
        ><a v-if="stories.length" href="#Demos"
          >Demo studies <span class="muted">{{ stories.length }}</span></a
        ><b>Steps</b
        ><a v-for="g in groups.filter((x) => x.entries.length)" :key="g.title" :href="`#${g.title}`"
          >{{ g.title }} <span class="muted">{{ g.entries.length }}</span></a
        >
      </nav>
      <div class="pages">
        <StartPage v-if="!query" />
        <section v-if="stories.length" id="Demos">
          <h2>Demo studies</h2>
          <article v-for="d in stories" :key="d.id" class="entry" :data-testid="`story-${d.id}`">
            <img class="demo" :src="`/api/demos/${d.id}/picture`" alt="" loading="lazy" />
            <h3>
              {{ d.name }} <span class="muted">{{ d.note }}</span>
            </h3>
            <template v-for="(p, i) in paragraphs(d.how)" :key="i">
              <ol v-if="p.list">
                <li v-for="(t, k) in p.items" :key="k">
                  <component :is="w.tag" v-for="(w, n) in words(t)" :key="n">{{ w.text }}</component>
                </li>
              </ol>
              <p v-else>
                <component :is="w.tag" v-for="(w, n) in words(p.items[0])" :key="n">{{ w.text }}</component>
              </p>
            </template>
          </article>
        </section>
        <WaysPage v-if="!query" />
        <ExactPage v-if="!query" />
        <section v-for="g in groups.filter((x) => x.entries.length)" :id="g.title" :key="g.title">
          <h2>{{ g.title }}</h2>
          <div class="entries">
            <article v-for="e in g.entries" :id="`${e.lane ?? 'shape'}-${e.id}`" :key="e.id" class="entry">
              <h3>
                {{ e.label }} <span class="muted">{{ e.yields }}</span>
              </h3>
              <img
                v-if="pictures[e.id] && e.lane === 'field'"
                class="shot"
                :src="pictures[e.id]"
                :alt="`A slice of a field after ${e.label}`"
              /><span v-else class="shot sign"><v-icon :icon="iconFor({ id: e.id, kind: '' })" size="30" /></span>
              <p v-for="(p, i) in e.doc.replace(/`/g, '').split('\n\n')" :key="i">{{ p }}</p>
              <p v-if="e.formula" class="num">{{ e.formula }}</p>
              <p v-if="e.mistake" class="mistake"><b>Often goes wrong</b> {{ e.mistake }}</p>
              <ParamTable :entry="e" />
            </article>
          </div>
        </section>
      </div>
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed, nextTick, onMounted, ref } from 'vue'
import { call } from '../api/client'
import type { Entry, ShapeEntry } from '../api/model'
import TextLine from '../controls/TextLine.vue'
import ParamTable from '../handbook/ParamTable.vue'
import StartPage from '../handbook/StartPage.vue'
import ExactPage from '../handbook/ExactPage.vue'
import WaysPage from '../handbook/WaysPage.vue'
import { loadPictures, pictures } from '../lib/examples'
import { useCatalogue } from '../stores/catalogue'
import { iconFor } from '../score/icons'

const listed = useCatalogue()
const catalogue = computed(() => listed.all)
const demos = ref<{ id: string; name: string; note: string; how: string }[]>([])
const query = ref('')
const stories = computed(() =>
  demos.value.filter((d) => `${d.name} ${d.how}`.toLowerCase().includes(query.value.toLowerCase())),
)
/** The little that how-to texts use: paragraphs, numbered lists, **bold** and *step* names. */
function paragraphs(text: string): { list: boolean; items: string[] }[] {
  return text
    .trim()
    .split(/\n\n+/)
    .map((block) => {
      const list = /^\d+\. /.test(block)
      const items = list
        ? block.split(/\n(?=\d+\. )/).map((t) => t.replace(/^\d+\. /, '').replace(/\s*\n\s*/g, ' '))
        : [block.replace(/\n/g, ' ')]
      return { list, items }
    })
}
const words = (text: string) =>
  text
    .split(/(\*\*[^*]+\*\*|\*[^*]+\*)/)
    .filter(Boolean)
    .map((t) =>
      t.startsWith('**')
        ? { tag: 'b', text: t.slice(2, -2) }
        : t.startsWith('*')
          ? { tag: 'i', text: t.slice(1, -1) }
          : { tag: 'span', text: t },
    )
const fits = (e: ShapeEntry) =>
  `${e.label} ${e.yields} ${e.doc} ${e.mistake}`.toLowerCase().includes(query.value.toLowerCase())
const groups = computed<{ title: string; entries: (ShapeEntry & Partial<Entry>)[] }[]>(() => [
  {
    title: 'Starts',
    entries: catalogue.value.steps.filter((e) => e.lane === 'field' && e.kind === 'start' && fits(e)),
  },
  {
    title: 'Changes',
    entries: catalogue.value.steps.filter((e) => e.lane === 'field' && e.kind === 'change' && fits(e)),
  },
  { title: 'Joins', entries: catalogue.value.steps.filter((e) => e.lane === 'field' && e.kind === 'join' && fits(e)) },
  ...catalogue.value.kinds.map((k) => ({
    title: k.label,
    entries: catalogue.value.steps.filter((e) => e.lane === k.id && fits(e)),
  })),
  { title: 'Shapes', entries: catalogue.value.shapes.filter(fits) },
])
onMounted(async () => {
  document.title = 'Handbook · Errant Gust'
  await listed.load()
  demos.value = await call('GET', '/demos')
  await loadPictures()
  await nextTick()
  document.getElementById(location.hash.slice(1))?.scrollIntoView() // once pictures have their sizes
})
</script>

<style scoped>
.book {
  display: grid;
  grid-template-columns: 150px minmax(0, 1fr);
  gap: 24px;
}
.toc {
  display: grid;
  gap: 4px;
  position: sticky;
  top: 0;
  align-self: start;
}
.toc b {
  margin-top: 8px;
}
.pages {
  max-width: 1720px;
}
.entries,
#Demos {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(min(500px, 100%), 1fr));
  gap: 12px;
  align-items: start;
}
#Demos h2 {
  grid-column: 1 / -1;
}
.demo {
  width: 46%;
  float: right;
  margin: 0 0 8px 14px;
  border: 1px solid var(--line);
}
.sign {
  display: grid;
  place-items: center;
  background: #0f1b2d;
  color: #f5f0e6;
}
.shot {
  float: right;
  width: 96px;
  height: 96px;
  margin: 0 0 6px 14px;
  border: 1px solid var(--line);
}
.entry {
  overflow: hidden;
}
ol {
  padding-left: 20px;
  margin: 4px 0 8px;
}
li {
  margin-bottom: 2px;
}
p.mistake {
  border-left: 2px solid rgb(var(--v-theme-warning));
  padding-left: 8px;
  color: inherit;
}
h2 {
  font-size: 18px;
  margin: 14px 0 6px;
}
.entry {
  padding: 10px 14px;
}
h3 {
  font-size: 14px;
}
h3 span {
  font-weight: 400;
}
</style>
