<template>
  <div v-if="failed" class="failed">
    <h2>{{ failed }}</h2>
    <router-link to="/">Back to the studies</router-link>
  </div>
  <div
    v-else-if="study.doc"
    class="desk"
    :class="{ tall: room.tall, alone: shows.alone }"
    :style="{ gridTemplateRows: shows.alone ? '1fr 36px' : `44px minmax(160px,1fr) 36px ${room.height}px` }"
  >
    <TopBar v-show="!shows.alone" @search="searching = true" @history="history = true" @keys="sheet = true" />
    <ViewPanel ref="view" class="seen" />
    <InspectorPanel v-show="!shows.alone" :tall="room.tall" @tall="room.tall = !room.tall" />
    <TimeBar />
    <div v-show="!shows.alone" class="bottom">
      <div
        v-tip="'Drag to resize the score; arrow keys too'"
        class="grip"
        role="separator"
        tabindex="0"
        aria-orientation="horizontal"
        aria-label="Height of the score"
        :aria-valuenow="room.height"
        data-testid="score-grip"
        @pointerdown="resize"
        @keydown.up.prevent.stop="stretch(24)"
        @keydown.down.prevent.stop="stretch(-24)"
      />
      <Beginnings v-if="empty" /><ScorePanel />
    </div>
    <v-dialog :model-value="study.state === 'conflict'" width="460" persistent>
      <v-card class="pa-4" data-testid="conflict">
        <h2>Changed in another window</h2>
        <p>
          This study was saved somewhere else while you were editing. Nothing is lost: both versions are in its history.
        </p>
        <div class="acts">
          <v-btn variant="outlined" data-testid="take-theirs" @click="study.resolve('theirs')">Take theirs</v-btn
          ><v-btn class="go" data-testid="keep-mine" @click="study.resolve('mine')">Keep mine</v-btn>
        </div>
      </v-card>
    </v-dialog>
    <SearchBox v-model:open="searching" :actions="actions" />
    <HistoryList v-model:open="history" />
    <v-dialog v-model="sheet" width="640"
      ><v-card class="pa-4" data-testid="keys"
        ><h2>Keys</h2>
        <TickBox v-model="letters" words="Keys that are a single character" testid="letters" />
        <div class="keys2" :style="{ gridTemplateRows: `repeat(${Math.ceil(actions.length / 2)}, auto)` }">
          <div v-for="a in actions" :key="a.name" class="keyrow">
            <span class="kbd">{{ a.key }}</span><span>{{ a.name }}</span>
          </div>
        </div></v-card
      ></v-dialog
    >
  </div>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, reactive, ref, watch } from 'vue'
import TickBox from '../controls/TickBox.vue'
import { useRoute, useRouter } from 'vue-router'
import { call } from '../api/client'
import type { RunOut } from '../api/model'
import Beginnings from '../desk/Beginnings.vue'
import HistoryList from '../desk/HistoryList.vue'
import SearchBox from '../desk/SearchBox.vue'
import TimeBar from '../desk/TimeBar.vue'
import TopBar from '../desk/TopBar.vue'
import ViewPanel from '../desk/ViewPanel.vue'
import { useKeys } from '../desk/keys'
import InspectorPanel from '../inspector/InspectorPanel.vue'
import ScorePanel from '../score/ScorePanel.vue'
import { useLook } from '../stores/look'
import { useView } from '../stores/view'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'

const route = useRoute()
const router = useRouter()
const study = useStudy()
const runs = useRuns()
const look = useLook()
const shows = useView()
const view = ref<InstanceType<typeof ViewPanel> | null>(null)
const failed = ref('')
/** How the window is divided: kept for each study, in this browser. */
const room = reactive({ height: 262, tall: false })
const roomOf = (key: string) => `room.${key}`
watch(room, () => study.key && localStorage.setItem(roomOf(study.key), JSON.stringify(room)))
function settle(key: string) {
  Object.assign(room, { height: 262, tall: false }, JSON.parse(localStorage.getItem(roomOf(key)) ?? '{}'))
}
const stretch = (by: number) => {
  room.height = Math.max(110, Math.min(window.innerHeight - 260, room.height + by))
}
const { sheet, letters, searching, history, actions } = useKeys(
  () => view.value?.frame(),
  () => void router.push(`/compare/${study.key}`),
)
const empty = computed(() => !study.doc?.fields.length && !study.doc?.flows.length && !study.doc?.shapes.length)

watch(
  () => route.params.key,
  async (key) => {
    if (typeof key !== 'string') return
    failed.value = ''
    try {
      const earlier = call<RunOut[]>('GET', `/runs?study=${encodeURIComponent(key)}`).catch(() => [])
      await study.load(key, async ({ key: id, document: doc }) => {
        settle(id)
        shows.pinned = null
        shows.adopt(doc.looks.probe ?? {})
        const { start, end } = doc.clock
        const middle = Math.round(start + 0.45 * (end - start))
        const shown = (await earlier).some(
          (r) =>
            r.state === 'done' && r.quality === 'preview' && r.flow === doc.flows[0]?.id && r.frames.includes(middle),
        )
        runs.open(id, shown ? middle : start)
      })
      document.title = `${study.doc!.name} · Errant Gust`
      if (study.doc!.flows.length) await runs.start('preview')
    } catch (error) {
      failed.value = (error as Error).message
    }
  },
  { immediate: true },
)

/** The picture on the study's card: the view as it was last seen at rest. */
let pictureTimer = 0
watch(
  () => [runs.current, look.slice, look.scene],
  () => {
    clearTimeout(pictureTimer)
    if (runs.playing || shows.alone) return
    pictureTimer = window.setTimeout(async () => {
      const blob = await view.value?.picture()
      if (blob && study.key) await call('PUT', `/studies/${study.key}/picture`, blob).catch(() => undefined)
    }, 2500)
  },
)
function resize(event: PointerEvent) {
  const start = event.clientY
  const from = room.height
  const move = (e: PointerEvent) => stretch(from + start - e.clientY - room.height)
  const up = () => {
    window.removeEventListener('pointermove', move)
    window.removeEventListener('pointerup', up)
  }
  window.addEventListener('pointermove', move)
  window.addEventListener('pointerup', up)
}
onBeforeUnmount(() => {
  clearTimeout(pictureTimer)
  void study.flush()
  runs.close()
})
</script>

<style>
.desk {
  height: 100vh;
  display: grid;
  background: rgb(var(--v-theme-background));
}
.desk {
  grid-template-columns: minmax(0, 1fr) 322px;
  grid-template-areas: 'top top' 'view inspector' 'time time' 'score score';
}
.desk.tall {
  grid-template-areas: 'top top' 'view inspector' 'time inspector' 'score inspector';
}
.desk.alone {
  grid-template-columns: minmax(0, 1fr);
  grid-template-areas: 'view' 'time';
}
.desk > .top {
  grid-area: top;
}
.desk > .seen {
  grid-area: view;
}
.desk > .insp {
  grid-area: inspector;
}
.desk > .time {
  grid-area: time;
}
.desk .bottom {
  grid-area: score;
  position: relative;
  min-height: 0;
  display: grid;
}
.desk .grip {
  position: absolute;
  top: -3px;
  left: 0;
  right: 0;
  height: 6px;
  cursor: row-resize;
  z-index: 2;
}
.acts {
  display: flex;
  gap: 10px;
  justify-content: flex-end;
  margin-top: 14px;
}
.keys2 {
  display: grid;
  grid-auto-flow: column;
  grid-template-columns: 1fr 1fr;
  column-gap: 18px;
  margin-top: 8px;
}
.keyrow {
  display: grid;
  grid-template-columns: 96px 1fr;
  padding: 2px 0;
  break-inside: avoid;
}
.failed {
  padding: 60px;
}
</style>
