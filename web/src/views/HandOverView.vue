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
        hold can then be handed over.
      </p>
      <div v-if="there?.offered.length" class="both">
        <section>
          <h2 class="over">What</h2>
          <v-table density="compact" class="listing">
            <thead>
              <tr>
                <th></th>
                <th>Run</th>
                <th>Result</th>
                <th class="right">Frames</th>
                <th>Format</th>
                <th>Channels</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="x in there.offered" :key="idOf(x)" :data-testid="`offer-${x.flow}-${x.quality}-${x.result}`">
                <td>
                  <TickBox
                    :model-value="!!chosen[idOf(x)]"
                    :label="`Hand over ${x.label} of ${x.flow}`"
                    :testid="`take-${x.flow}-${x.quality}-${x.result}`"
                    @update:model-value="(on) => choose(x, on)"
                  />
                </td>
                <td>
                  {{ x.name || x.flow }} <span class="muted">{{ x.quality }}</span>
                </td>
                <td>{{ x.label }}</td>
                <td class="right num">{{ x.first }} … {{ x.last }}</td>
                <td>
                  <PickOne
                    v-if="chosen[idOf(x)]"
                    v-model="chosen[idOf(x)].format"
                    :items="x.formats.map((id) => ({ id, name: id }))"
                    :label="`Format of ${x.label}`"
                    :testid="`format-${x.flow}-${x.quality}-${x.result}`"
                  /><span v-else class="muted">{{ x.formats[0] }}</span>
                </td>
                <td class="channels">
                  <template v-if="chosen[idOf(x)] && x.channels.length"
                    ><button
                      v-for="c in x.channels"
                      :key="c"
                      class="channel"
                      :aria-pressed="takes(x, c)"
                      :data-testid="`channel-${x.result}-${c}`"
                      @click="toggle(x, c)"
                    >
                      {{ c }}
                    </button></template
                  ><span v-else class="muted">{{ x.channels.join(', ') }}</span>
                </td>
              </tr>
            </tbody>
          </v-table>
          <div v-for="f in there.flipbooks" :key="f.id" class="film">
            <TickBox
              :model-value="films.includes(f.id)"
              :words="`flipbook of frames ${f.first} to ${f.last}, ${f.width} × ${f.height}`"
              :testid="`film-${f.id}`"
              @update:model-value="(on) => (films = on ? [...films, f.id] : films.filter((x) => x !== f.id))"
            />
            <span class="muted num">{{ bytes(f.bytes) }}</span>
            <button
              :aria-label="`Forget the flipbook of frames ${f.first} to ${f.last}`"
              :data-testid="`forget-${f.id}`"
              @click="forget(f.id)"
            >
              ×
            </button>
          </div>
        </section>
        <HandOverHow
          v-model="o"
          class="how"
          :first="first"
          :last="last"
          :formats="items.map((i) => i.format)"
          :cameras="there.cameras"
          :roots="there.roots"
          :root="root"
          :name="name"
          :cluster="there.cluster"
          :place="place"
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
import { computed, onBeforeUnmount, onMounted, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call } from '../api/client'
import type { components } from '../api/schema'
import PickOne from '../controls/PickOne.vue'
import TickBox from '../controls/TickBox.vue'
import HandOverHow from '../hand/HandOverHow.vue'
import HandOverMade from '../hand/HandOverMade.vue'
import { usual, type Chosen, type Place } from '../hand/choices'
import { bytes } from '../lib/quantity'
import { followAll } from '../lib/events'

type HandOver = components['schemas']['HandOver']
type Offered = components['schemas']['Offered']
type Plan = components['schemas']['Plan']
const route = useRoute()
const key = computed(() => String(route.params.key))
const study = ref<components['schemas']['StudyOut'] | null>(null)
const there = ref<HandOver | null>(null)
const problem = ref('')
const chosen = reactive<Record<string, Chosen>>({})
const o = ref(usual())
/** Ids of the flipbooks that go along. */
const films = ref<string[]>([])
const root = ref('')
const name = ref('')
const place = ref<Place>('cluster')
document.title = 'Hand over · Errant Gust'

const idOf = (x: Offered) => `${x.run}.${x.result}`
const picked = computed(() => (there.value?.offered ?? []).filter((x) => chosen[idOf(x)]))
const first = computed(() => o.value.first ?? Math.max(...picked.value.map((x) => x.first), 1))
const last = computed(() => o.value.last ?? Math.min(...picked.value.map((x) => x.last), 1_000_000))
const items = computed(() =>
  picked.value.map((x) => ({ run: x.run, result: x.result, ...chosen[idOf(x)], channels: chosen[idOf(x)].channels })),
)
function choose(x: Offered, on: boolean) {
  if (on) chosen[idOf(x)] = { format: x.formats[0], channels: [] }
  else delete chosen[idOf(x)]
}
const takes = (x: Offered, c: string) => {
  const some = chosen[idOf(x)].channels
  return !some.length || some.includes(c)
}
function toggle(x: Offered, c: string) {
  const now = x.channels.filter((k) => (k === c ? !takes(x, k) : takes(x, k)))
  chosen[idOf(x)].channels = now.length === x.channels.length ? [] : now
}

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
      const one = found.offered.find((x) => x.state === 'done') ?? found.offered[0]
      if (one) choose(one, true)
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
    refused.value = 'Choose something to hand over'
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
  clearTimeout(waits)
  waits = window.setTimeout(() => void look(), 150)
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
  clearTimeout(waits)
})
</script>

<style scoped>
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 420px;
  gap: 22px;
  align-items: start;
}
.film {
  display: flex;
  align-items: center;
  gap: 10px;
  font-size: 12px;
}
.film > .v-selection-control {
  flex: none;
}
.channels {
  white-space: normal;
}
.channel {
  border: 1px solid var(--line);
  border-radius: 9px;
  padding: 0 7px;
  margin: 1px 3px 1px 0;
  font-size: 11px;
}
.channel[aria-pressed='false'] {
  text-decoration: line-through;
  opacity: 0.55;
}
.right {
  text-align: right !important;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.right > span {
  margin-right: 10px;
}
section {
  margin-bottom: 18px;
}
</style>
