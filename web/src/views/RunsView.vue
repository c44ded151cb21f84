<template>
  <div class="page">
    <header class="bar">
      <router-link to="/"><b>Errant Gust</b></router-link
      ><span class="muted">▸</span>
      <template v-if="key"
        ><router-link :to="`/desk/${key}`" data-testid="to-desk">{{ found?.study_name ?? key }}</router-link
        ><span class="muted">▸</span><span>Runs</span
        ><router-link class="all muted" to="/runs" data-testid="all-runs">of all studies</router-link></template
      >
      <span v-else>Runs of all studies</span>
      <span class="sp" />
      <span v-if="found?.cluster" v-tip="`Runs go to the cluster at ${found.cluster}`" class="muted" tabindex="0"
        >Cluster</span
      >
      <span v-if="found" class="space num muted" data-testid="shelf-space"
        >{{ bytes(found.used) }} of {{ bytes(found.budget) }}</span
      >
      <v-btn v-if="key" variant="outlined" data-testid="open-sweep" @click="sweeping = true">Sweep …</v-btn>
      <v-btn :disabled="!runs.length" variant="outlined" data-testid="open-free" @click="askFree">Free space …</v-btn>
      <v-btn :disabled="picked.length !== 2" variant="outlined" data-testid="compare-runs" @click="compare"
        >Compare</v-btn
      >
      <v-btn :disabled="picked.length !== 2" variant="outlined" data-testid="diff-runs" @click="diff"
        >What changed</v-btn
      >
      <router-link to="/handbook">Handbook</router-link>
    </header>
    <main>
      <p v-if="problem" class="problem" role="alert" data-testid="shelf-problem">{{ problem }}</p>
      <p v-if="found?.warning" class="warning" role="status" data-testid="shelf-warning">{{ found.warning }}</p>
      <p v-if="found && !runs.length" class="muted" data-testid="shelf-empty">
        No run yet. <router-link :to="key ? `/desk/${key}` : '/'">Run a flow on the Desk</router-link>: every version
        that is run stays here, with what it changed.
      </p>
      <p v-if="sweeps.length" class="sweeps">
        <span class="muted">Sweeps</span>
        <router-link v-for="s in sweeps" :key="s.sweep" :to="`/sweep/${s.sweep}`" :data-testid="`sweep-${s.sweep}`"
          >{{ s.words }} <span class="muted">{{ s.count }} runs</span></router-link
        >
      </p>
      <v-table v-if="runs.length" density="compact" class="shelf">
        <thead>
          <tr>
            <th></th>
            <th></th>
            <th>Run</th>
            <th>Changed against the one before</th>
            <th>State</th>
            <th class="right">Frames</th>
            <th class="right">A frame</th>
            <th class="right">Size</th>
            <th class="right">Memory</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in runs" :key="r.identity" :data-testid="`run-${r.identity}`" :data-state="r.state">
            <td>
              <TickBox
                :model-value="picked.includes(r.identity)"
                :label="`Choose ${title(r)}`"
                :testid="`pick-${r.identity}`"
                @update:model-value="pick(r.identity)"
              />
            </td>
            <td class="shot">
              <img
                v-if="r.frames.length && !unseen.has(r.identity + seen(r))"
                :src="`/api/runs/${r.identity}/picture?${seen(r)}`"
                :alt="`The flow ${r.flow} in the middle of its run`"
                width="112"
                height="70"
                loading="lazy"
                @error="unseen.add(r.identity + seen(r))"
              />
            </td>
            <td class="who">
              <TextLine
                :model-value="title(r)"
                :label="`Name of the run of ${r.flow}`"
                :testid="`name-${r.identity}`"
                @update:model-value="(name) => tell(r, { name: name.trim() === r.flow ? '' : name })"
              />
              <span class="muted"
                ><router-link v-if="!key" :to="`/runs/${r.study}`">{{ r.study_name }}</router-link
                >{{ key ? '' : ' · ' }}{{ r.name ? `${r.flow}, ` : '' }}{{ r.quality }}, {{ toMinute(r.created) }}</span
              >
            </td>
            <td class="what" :data-testid="`changes-${r.identity}`">
              <span v-for="c in changeWords(r)" :key="c" :class="{ muted: !r.changes.length }">{{ c }}</span>
            </td>
            <td class="state">
              <span :class="{ bad: r.state === 'failed' }">{{ stateWords(r) }}</span>
              <template v-if="r.state === 'running'">
                <v-progress-linear
                  :model-value="share(r)"
                  height="4"
                  color="success"
                  :aria-label="`${Math.round(share(r))} % of ${title(r)}`"
                />
                <span v-if="r.left !== null" class="muted num">{{ Math.max(1, Math.round(r.left)) }} s left</span>
              </template>
              <span v-else-if="r.worker" class="muted">on {{ r.worker }}</span>
            </td>
            <td class="right num">
              {{ r.frames.length }}<span class="muted"> to {{ r.last }}</span>
            </td>
            <td class="right num">{{ r.each ? `${shown(1000 * r.each, 2)} ms` : '' }}</td>
            <td class="right num">{{ r.bytes ? bytes(r.bytes) : '' }}</td>
            <td class="right num" :data-testid="`memory-${r.identity}`">
              <span v-tip="memoryTip(r)" tabindex="0">{{
                r.memory ? bytes(r.memory) : r.needs ? `≤ ${bytes(r.needs)}` : ''
              }}</span>
            </td>
            <td class="acts">
              <v-btn
                v-tip="r.pinned ? 'Pinned: never freed' : 'Pin: it is never freed'"
                class="plain"
                :aria-label="`Pin ${title(r)}`"
                :aria-pressed="r.pinned"
                :data-testid="`pin-${r.identity}`"
                @click="tell(r, { pinned: !r.pinned })"
              >
                <v-icon :icon="r.pinned ? mdiPin : mdiPinOutline" size="18" />
              </v-btn>
              <v-menu location="bottom end">
                <template #activator="{ props }">
                  <v-btn
                    class="plain"
                    v-bind="props"
                    :aria-label="`More for ${title(r)}`"
                    :data-testid="`more-${r.identity}`"
                  >
                    ⋯
                  </v-btn>
                </template>
                <v-list density="compact">
                  <v-list-item v-if="isBusy(r)" title="Stop" data-testid="act-stop" @click="stop(r)" />
                  <v-list-item v-else title="Continue" data-testid="act-continue" @click="proceed(r)" />
                  <v-list-item title="Continue to a later frame …" data-testid="act-further" @click="further = r" />
                  <v-list-item
                    v-if="found?.cluster && r.state !== 'done'"
                    :title="r.place === 'here' ? 'Go on on the cluster' : 'Go on on this machine'"
                    data-testid="act-move"
                    @click="move(r)"
                  />
                  <v-list-item v-if="!isBusy(r)" title="Mend damaged frames" data-testid="act-mend" @click="mend(r)" />
                  <v-list-item title="What happened to it …" data-testid="act-log" @click="openLog(r)" />
                  <v-list-item title="Put its version back into the study" data-testid="act-put" @click="putBack(r)" />
                  <v-list-item title="Delete" data-testid="act-delete" @click="remove(r)" />
                </v-list>
              </v-menu>
            </td>
          </tr>
        </tbody>
      </v-table>
      <v-btn v-if="found && found.total > runs.length" variant="outlined" data-testid="more-runs" @click="more"
        >Show more of {{ found.total.toLocaleString('en') }} runs</v-btn
      >
    </main>
    <SweepDialog v-if="key" v-model="sweeping" :study="key" />
    <v-dialog :model-value="!!further" width="360" @update:model-value="further = null">
      <v-card v-if="further" class="ask">
        <h2>To a later frame</h2>
        <p class="muted">The version of the study stays the one of the run, whatever the study is now.</p>
        <NumberField
          :value="further.last"
          unit=""
          label="Last frame"
          :low="further.last"
          integer
          testid="further-last"
          @change="(v) => (until = v)"
        />
        <v-btn variant="outlined" data-testid="further-go" @click="goFurther">Continue</v-btn>
      </v-card>
    </v-dialog>
    <v-dialog v-model="freeing" width="520">
      <v-card class="ask" data-testid="free-dialog">
        <h2>Free space</h2>
        <p v-if="!victims.length">Nothing would go: every run is pinned, or goes on.</p>
        <template v-else>
          <p>
            {{ victims.length }} runs that nobody pinned, {{ bytes(victims.reduce((sum, r) => sum + r.bytes, 0)) }}.
            Their frames cannot be brought back, but computed again.
          </p>
          <ul>
            <li v-for="r in victims.slice(0, 12)" :key="r.identity">
              {{ r.study_name }} · {{ title(r) }}, {{ r.quality }}: {{ bytes(r.bytes) }}
            </li>
            <li v-if="victims.length > 12" class="muted">and {{ victims.length - 12 }} more</li>
          </ul>
          <v-btn variant="outlined" color="error" data-testid="free-go" @click="free">Free it</v-btn>
        </template>
      </v-card>
    </v-dialog>
    <v-dialog :model-value="!!changed" width="620" @update:model-value="changed = null">
      <v-card v-if="changed" class="ask" data-testid="diff-dialog">
        <h2>What changed</h2>
        <p class="muted">{{ changed.words }}</p>
        <v-table density="compact">
          <tbody>
            <tr v-for="c in changed.found" :key="c.where + c.what">
              <th>{{ c.place }}</th>
              <td>{{ c.what }}</td>
            </tr>
          </tbody>
        </v-table>
        <p v-if="!changed.found.length">Nothing that the flow depends on.</p>
      </v-card>
    </v-dialog>
    <v-dialog :model-value="!!log" width="820" @update:model-value="log = null">
      <v-card v-if="log" class="ask" data-testid="log-dialog">
        <h2>What happened to {{ log.words }}</h2>
        <p v-if="!log.lines.length" class="muted">Nothing was noted: it has not begun.</p>
        <ol class="log num">
          <li v-for="(line, n) in log.lines" :key="n">{{ line }}</li>
        </ol>
      </v-card>
    </v-dialog>
    <v-snackbar v-model="undoing" timeout="8000"
      >{{ done
      }}<template #actions
        ><v-btn v-if="gone" color="warning" data-testid="undelete" @click="back">Undo</v-btn></template
      ></v-snackbar
    >
  </div>
</template>

<script setup lang="ts">
import { mdiPin, mdiPinOutline } from '@mdi/js'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call } from '../api/client'
import TextLine from '../controls/TextLine.vue'
import TickBox from '../controls/TickBox.vue'
import NumberField from '../inspector/NumberField.vue'
import { bytes, shown } from '../lib/quantity'
import { clock, toMinute } from '../lib/when'
import SweepDialog from '../shelf/SweepDialog.vue'
import { changeWords, isBusy, stateWords, useShelf, type ChangeOut, type ShelfRun } from '../shelf/shelf'

const route = useRoute()
const router = useRouter()
const key = computed(() => String(route.params.key ?? ''))
const { found, problem, load, act, more, runs } = useShelf(key)
watch(key, load)
document.title = 'Runs · Errant Gust'

const title = (r: ShelfRun) => r.name || r.flow
const share = (r: ShelfRun) => (100 * r.frames.length) / Math.max(1, r.last)
/** The picture is asked for again when there are many more frames. */
const seen = (r: ShelfRun) => `n=${2 ** Math.floor(Math.log2(r.frames.length + 1))}`

const picked = ref<string[]>([])
const pick = (id: string) => {
  picked.value = picked.value.includes(id) ? picked.value.filter((x) => x !== id) : [...picked.value, id].slice(-2)
}
watch(runs, (all) => {
  picked.value = picked.value.filter((id) => all.some((r) => r.identity === id))
})
/** The two that are chosen, the earlier first. */
const pair = computed(() => [...runs.value].reverse().filter((r) => picked.value.includes(r.identity)))

const tell = (r: ShelfRun, body: { name?: string; pinned?: boolean }) =>
  act(() => call('PATCH', `/runs/${r.identity}`, body))
const stop = (r: ShelfRun) => act(() => call('POST', `/runs/${r.identity}/stop`))
const proceed = (r: ShelfRun, last?: number) => act(() => call('POST', `/runs/${r.identity}/continue`, { last }))
/** Every frame is read by its sums; what is damaged is computed again. */
async function mend(r: ShelfRun) {
  if (!(await act(() => call('POST', `/runs/${r.identity}/mend`)))) return
  gone.value = ''
  done.value = `Frames of ${title(r)} will be read, damaged ones computed again: “What happened to it …” tells which`
  undoing.value = true
}
/** Pictures that cannot be made: of runs whose middle frame is damaged, say. */
const unseen = reactive(new Set<string>())
const further = ref<ShelfRun | null>(null)
const until = ref(0)
watch(further, (r) => {
  if (r) until.value = r.last
})
async function goFurther() {
  const r = further.value
  further.value = null
  if (r) await proceed(r, until.value)
}

const sweeping = ref(false)
const sweeps = ref<{ sweep: string; words: string; count: number }[]>([])
watch(
  key,
  async (study) => {
    sweeps.value = study ? await call('GET', `/sweeps?study=${encodeURIComponent(study)}`) : []
  },
  { immediate: true },
)

const undoing = ref(false)
const done = ref('')
const gone = ref('')
async function remove(r: ShelfRun) {
  if (!(await act(() => call('DELETE', `/runs/${r.identity}`)))) return
  done.value = `Deleted ${title(r)}`
  gone.value = r.identity
  undoing.value = true
}
async function back() {
  undoing.value = false
  await act(() => call('POST', `/runs/${gone.value}/undelete`))
}
async function putBack(r: ShelfRun) {
  if (!(await act(() => call('POST', `/runs/${r.identity}/put-back`)))) return
  gone.value = ''
  done.value = `${r.study_name} is again as ${title(r)} was made of; undo on the Desk takes it back`
  undoing.value = true
}

const freeing = ref(false)
const victims = ref<ShelfRun[]>([])
async function askFree() {
  await act(async () => {
    victims.value = await call<ShelfRun[]>('GET', `/shelf/free?study=${encodeURIComponent(key.value)}`)
    freeing.value = true
  })
}
async function free() {
  freeing.value = false
  let came = 0
  const ok = await act(async () => {
    const said = await call<{ bytes: number }>('POST', '/shelf/free', { runs: victims.value.map((r) => r.identity) })
    came = said.bytes
  })
  if (!ok) return
  gone.value = ''
  done.value = `${bytes(came)} are free`
  undoing.value = true
}

const move = (r: ShelfRun) =>
  act(() => call('POST', `/runs/${r.identity}/move`, { place: r.place === 'here' ? 'cluster' : 'here' }))
const memoryTip = (r: ShelfRun) =>
  r.memory ? 'What the worker takes now' : r.needs ? 'What it needs at most, by estimate' : ''
const localTime = (line: string) => line.replace(/^\S+/, (t) => (isNaN(Date.parse(t)) ? t : clock(t)))
const log = ref<{ words: string; lines: string[] } | null>(null)
const openLog = (r: ShelfRun) =>
  act(async () => {
    const lines = await call<string[]>('GET', `/runs/${r.identity}/log`)
    log.value = { words: title(r), lines: lines.map(localTime) }
  })

const changed = ref<{ words: string; found: ChangeOut[] } | null>(null)
async function diff() {
  const [a, b] = pair.value
  await act(async () => {
    const made = await call<ChangeOut[]>('GET', `/runs/${b.identity}/changes?against=${a.identity}`)
    changed.value = {
      words: `from ${title(a)}, ${toMinute(a.created)}, to ${title(b)}, ${toMinute(b.created)}`,
      found: made,
    }
  })
}
function compare() {
  const [a, b] = pair.value
  void router.push({ path: `/compare/${b.study}`, query: { panes: `${a.identity}:,${b.identity}:` } })
}
</script>

<style scoped>
.log {
  margin: 0;
  padding: 0;
  list-style: none;
  font-size: 12px;
  white-space: pre-wrap;
}
.all {
  font-size: 12px;
}
.space {
  font-size: 12px;
}
.sweeps {
  display: flex;
  gap: 14px;
  flex-wrap: wrap;
  font-size: 12px;
  margin-bottom: 10px;
}
.problem {
  color: rgb(var(--v-theme-error));
}
.warning {
  color: rgb(var(--v-theme-warning));
  font-weight: 600;
}
.shelf {
  background: var(--card);
  border: 1px solid var(--line);
}
.shelf th {
  padding: 0 8px !important;
}
.shelf td {
  padding: 6px 8px !important;
  vertical-align: middle;
  font-size: 12px;
}
.shot {
  width: 120px;
}
.shot img {
  display: block;
  border: 1px solid var(--line);
}
.who {
  width: 230px;
}
.what span {
  display: block;
}
.state {
  width: 150px;
}
.state > span {
  display: block;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.right {
  text-align: right !important;
  white-space: nowrap;
}
.acts {
  white-space: nowrap;
  text-align: right;
}
.acts button {
  padding: 2px 6px;
}
.ask ul {
  padding-left: 18px;
  font-size: 12px;
}
.ask th {
  text-align: left;
  white-space: nowrap;
}
</style>
