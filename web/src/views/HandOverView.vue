<template>
  <div class="page">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span>
      <router-link :to="`/desk/${key}`" data-testid="to-desk">{{ study?.document.name ?? key }}</router-link><span
        class="muted"
        >▸</span
      ><span>Hand over</span>
      <span class="sp" />
      <router-link :to="`/runs/${key}`">Runs</router-link>
      <router-link to="/handbook">Handbook</router-link>
    </header>
    <main>
      <p v-if="problem" class="bad" role="alert" data-testid="hand-problem">{{ problem }}</p>
      <p v-if="there && !there.offered.length" class="muted" data-testid="hand-empty">
        No run has a frame yet. <router-link :to="`/desk/${key}`">Run a flow on the Desk</router-link>: what its frames
        hold can then be handed over{{ rows.length ? '; fields and shapes can be now' : '' }}.
      </p>
      <div v-if="there && rows.length" class="both">
        <HandOverWhat
          v-model:chosen="chosen"
          v-model:films="films"
          :rows="rows"
          :flipbooks="there.flipbooks"
          @forget="forget"
        />
        <HandOverHow
          v-model="o"
          class="how"
          :first="first"
          :last="last"
          :formats="items.map((i) => i.format)"
          :cameras="there.cameras"
          :goes="there.goes"
          :roots="there.roots"
          :root="root"
          :name="name"
          :cluster="there.cluster"
          :place="place"
          :nothing="!items.length"
          :plan="plan"
          :refused="refused"
          @root="(r) => (root = r)"
          @name="(t) => (name = t)"
          @place="(p) => (place = p)"
          @write="write"
        />
      </div>
      <HandOverMade v-if="there" :going="there.going" :made="there.made" @stop="stop" @prove="prove" />
    </main>
  </div>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call } from '../api/client'
import type { components } from '../api/schema'
import HandOverHow from '../hand/HandOverHow.vue'
import HandOverWhat from '../hand/HandOverWhat.vue'
import HandOverMade from '../hand/HandOverMade.vue'
import { chosenOf, itemOf, rowsOf, usual, type Chosen, type Place } from '../hand/choices'
import { followAll } from '../lib/events'
import { afterwards, callOff } from '../lib/rest'

type HandOver = components['schemas']['HandOver']
type Plan = components['schemas']['Plan']
const route = useRoute()
const key = computed(() => String(route.params.key))
const study = ref<components['schemas']['StudyOut'] | null>(null)
const there = ref<HandOver | null>(null)
const problem = ref('')
const chosen = ref<Record<string, Chosen>>({})
const o = ref(usual())
/** Ids of the flipbooks that go along. */
const films = ref<string[]>([])
const root = ref('')
const name = ref('')
const place = ref<Place>('cluster')
document.title = 'Hand over · Errant Gust'

const rows = computed(() => (there.value ? rowsOf(there.value) : []))
const picked = computed(() => rows.value.filter((x) => chosen.value[x.id]))
/** What tells which frames there are: what is chosen, or all there is. */
const telling = computed(() => (picked.value.length ? picked.value : rows.value))
const first = computed(() => o.value.first ?? Math.max(...telling.value.map((x) => x.first), 1))
const last = computed(() => o.value.last ?? Math.min(...telling.value.map((x) => x.last), 1_000_000))
const items = computed(() => picked.value.map((x) => itemOf(x, chosen.value[x.id])))

/** A name that no delivery has. */
function fresh(found: HandOver) {
  const taken = [...found.made, ...found.going].map((m) => m.to)
  let n = 1
  while (taken.includes(`${root.value}/${key.value}_v${n}`)) n++
  return `${key.value}_v${n}`
}
async function load() {
  try {
    const found = await call<HandOver>('GET', `/hand-over?study=${encodeURIComponent(key.value)}`)
    if (!there.value) {
      root.value = found.roots[0] ?? ''
      name.value = `${key.value}_v1`
      for (let n = 2; found.made.some((m) => m.to === `${root.value}/${name.value}`); n++)
        name.value = `${key.value}_v${n}`
      const runs = rowsOf(found).filter((x) => x.run)
      const one = runs.find((x) => x.done) ?? runs[0]
      if (one) chosen.value = { [one.id]: chosenOf(one) }
    }
    there.value = found
    problem.value = ''
  } catch (error) {
    problem.value = (error as Error).message
  }
}

const plan = ref<Plan | null>(null)
const refused = ref('')
const body = computed(() => ({
  study: key.value,
  items: items.value,
  flipbooks: films.value,
  options: { ...o.value, first: first.value, last: last.value },
  root: root.value,
  name: name.value,
  place: place.value,
}))
let waits = 0
let asked = 0
async function look() {
  const mine = ++asked
  if (!items.value.length) {
    plan.value = null
    refused.value = ''
    return
  }
  try {
    const made = await call<Plan>('POST', '/hand-over/plan', body.value)
    if (mine !== asked) return
    plan.value = made
    refused.value = ''
  } catch (error) {
    if (mine !== asked) return
    plan.value = null
    refused.value = (error as Error).message
  }
}
watch(body, () => {
  callOff(waits)
  waits = afterwards(() => void look(), 150)
})
async function write() {
  try {
    await call('POST', '/hand-over', body.value)
  } catch (error) {
    refused.value = (error as Error).message
    return
  }
  await load()
  if (there.value) name.value = fresh(there.value)
}
async function forget(id: string) {
  films.value = films.value.filter((x) => x !== id)
  await call('DELETE', `/studies/${key.value}/flipbooks/${id}`).catch((error) => {
    problem.value = (error as Error).message
  })
  await load()
}
async function stop(id: string) {
  await call('POST', `/hand-over/${id}/stop`)
  await load()
}
async function prove(to: string) {
  try {
    await call('POST', '/hand-over/prove', { to })
  } catch (error) {
    problem.value = (error as Error).message
  }
  await load()
}
let unfollow = () => {}
onMounted(async () => {
  await load()
  unfollow = followAll(() => void load())
  try {
    study.value = await call('GET', `/studies/${key.value}`)
  } catch (error) {
    problem.value = (error as Error).message
  }
})
onBeforeUnmount(() => {
  unfollow()
  callOff(waits)
})
</script>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 420px;
  gap: 22px;
  align-items: start;
}
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
