<template>
  <div class="page">
    <header class="bar"><router-link to="/"><b>Errant Gust</b></router-link><span class="muted">▸</span><span>Handbook</span><span class="sp" />
      <input v-model="query" class="find" placeholder="Search the handbook" aria-label="Search the handbook" /></header>
    <main class="book">
      <section v-for="g in groups" :key="g.title"><h2>{{ g.title }}</h2>
        <article v-for="e in g.entries" :id="`${g.title}-${e.id}`" :key="e.id" class="entry">
          <h3>{{ e.label }} <span class="muted">{{ e.yields }}</span></h3>
          <p v-for="(p, i) in e.doc.split('\n\n')" :key="i">{{ p }}</p>
          <p v-if="e.formula" class="num">{{ e.formula }}</p>
          <table><tbody><tr v-for="p in e.params" :key="p.name"><th>{{ p.label }}</th><td>{{ p.help }}</td><td class="num">{{ range(p) }}</td></tr></tbody></table>
        </article>
      </section>
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { call } from '../api/client'
import type { Catalogue, Entry, ParamSpec } from '../api/types'
import { rawWords } from '../score/words'

const catalogue = ref<Catalogue>({ steps: [], shapes: [] })
const query = ref('')
const fits = (e: Entry) => `${e.label} ${e.yields} ${e.doc}`.toLowerCase().includes(query.value.toLowerCase())
const groups = computed(() => [
  { title: 'Starts', entries: catalogue.value.steps.filter((e) => e.kind === 'start' && fits(e)) },
  { title: 'Changes', entries: catalogue.value.steps.filter((e) => e.kind === 'change' && fits(e)) },
  { title: 'Joins', entries: catalogue.value.steps.filter((e) => e.kind === 'join' && fits(e)) },
  { title: 'Particles', entries: catalogue.value.steps.filter((e) => e.lane === 'particles' && fits(e)) },
  { title: 'Shapes', entries: catalogue.value.shapes.filter(fits) },
])
function range(p: ParamSpec) {
  const [a, b] = p.range
  const limits = a !== null || b !== null ? ` (${a ?? '…'} to ${b ?? '…'})` : ''
  return p.required ? 'to be chosen' : rawWords(p.default, p, null) + limits
}
onMounted(async () => { document.title = 'Handbook · Errant Gust'; catalogue.value = await call<Catalogue>('GET', '/catalogue') })
</script>

<style scoped>
.book { max-width: 980px; }
h2 { font-size: 18px; margin: 14px 0 6px; }
.entry { padding: 10px 14px; margin-bottom: 10px; }
h3 { font-size: 14px; }
h3 span { font-weight: 400; }
table { width: 100%; border-collapse: collapse; font-size: 12px; }
th { text-align: left; font-weight: 600; width: 140px; padding: 2px 0; vertical-align: top; }
td:last-child { text-align: right; white-space: nowrap; padding-left: 12px; }
tr { border-top: 1px solid var(--soft); }
</style>
