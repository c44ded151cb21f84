<template>
  <header class="top">
    <router-link to="/" class="home"><b>Errant Gust</b></router-link
    ><span class="muted">▸</span>
    <TextLine
      class="title"
      :model-value="study.doc?.name ?? ''"
      label="Name of the study"
      @update:model-value="rename"
    />
    <span class="muted state" :class="study.state" role="status" data-testid="save-state">{{ said }}</span>
    <v-btn
      v-tip="study.undoLabel ? `Undo: ${study.undoLabel}` : 'Nothing to undo'"
      class="plain"
      :disabled="!study.undoLabel && study.state !== 'unsaved'"
      :aria-label="study.undoLabel ? `Undo: ${study.undoLabel}` : 'Nothing to undo'"
      data-testid="undo"
      @click="study.step('undo')"
    >
      <v-icon :icon="mdiUndo" size="18" />
    </v-btn>
    <v-btn
      v-tip="study.redoLabel ? `Redo: ${study.redoLabel}` : 'Nothing to redo'"
      class="plain"
      :disabled="!study.redoLabel"
      :aria-label="study.redoLabel ? `Redo: ${study.redoLabel}` : 'Nothing to redo'"
      data-testid="redo"
      @click="study.step('redo')"
    >
      <v-icon :icon="mdiRedo" size="18" />
    </v-btn>
    <v-btn v-tip="'History (H)'" class="plain" aria-label="History" data-testid="open-history" @click="emit('history')">
      <v-icon :icon="mdiHistory" size="18" />
    </v-btn>
    <span class="sp" />
    <v-btn class="plain finder" data-testid="open-search" @click="emit('search')"
      >Search <span class="kbd">/</span></v-btn
    >
    <span class="sp" />
    <v-menu :close-on-content-click="false" location="bottom end">
      <template #activator="{ props }">
        <v-btn v-bind="props" class="plain checks" :class="worst" data-testid="checks">
          {{
            numbers.findings.length
              ? `${numbers.findings.length} ${numbers.findings.length === 1 ? 'check' : 'checks'}`
              : numbers.checked === study.key
                ? 'no findings'
                : 'checking …'
          }}
        </v-btn>
      </template>
      <v-card width="430" class="found">
        <p v-if="numbers.checked !== study.key" class="muted">The study is being checked.</p>
        <p v-else-if="!numbers.findings.length" class="muted">
          Nothing found: every lane can be built, is somewhere other than zero, and fits the budget.
        </p>
        <div
          v-for="f in numbers.findings"
          :key="f.code + f.where + f.what"
          class="finding"
          :class="f.level"
          :data-testid="`finding-${f.code}`"
        >
          <v-icon
            :icon="
              f.level === 'error'
                ? mdiAlertOctagonOutline
                : f.level === 'warning'
                  ? mdiAlertOutline
                  : mdiInformationOutline
            "
            size="18"
          />
          <div>
            <v-btn class="plain where" @click="jump(f.where)">{{
              f.where ? placeWords(f.where) : 'The study'
            }}</v-btn><b>{{ inNames(f.what) }}</b
            ><span class="muted">{{ inNames(f.why) }}</span>
            <v-btn v-if="f.fix" size="small" variant="outlined" :data-testid="`fix-${f.code}`" @click="fix(f)">{{
              f.fix.label
            }}</v-btn>
            <v-btn v-if="f.may_be_meant" size="small" variant="text" :data-testid="`meant-${f.code}`" @click="meant(f)"
              >Intended</v-btn
            >
          </div>
        </div>
      </v-card>
    </v-menu>
    <v-btn v-tip="'Keys (?)'" class="plain" aria-label="Keys" @click="emit('keys')">
      <v-icon :icon="mdiKeyboardOutline" size="18" />
    </v-btn>
    <v-btn v-tip="'Day or night'" class="plain" aria-label="Day or night" @click="night">
      <v-icon :icon="mdiThemeLightDark" size="18" />
    </v-btn>
    <router-link
      v-if="study.doc?.flows.length"
      v-tip="'Runs and channels side by side (C)'"
      :to="`/compare/${study.key}`"
      data-testid="open-compare"
      >Compare</router-link
    >
    <router-link
      v-if="study.doc?.flows.length"
      v-tip="'Every run of this study, and what it changed'"
      :to="`/runs/${study.key}`"
      data-testid="open-runs"
      >Runs</router-link
    >
    <router-link
      v-if="study.doc?.flows.length"
      v-tip="'Write frames for others, with names, axes and units as they want them'"
      :to="`/hand-over/${study.key}`"
      data-testid="open-hand-over"
      >Hand over</router-link
    >
    <router-link to="/handbook">Handbook</router-link>
    <v-btn v-if="running" variant="outlined" data-testid="stop" @click="runs.stop()">Stop</v-btn>
    <RunCost />
    <PickOne v-model="runs.quality" class="quality" :items="QUALITIES" label="Quality of the run" testid="quality" />
    <v-btn v-tip="'Run (Ctrl+Enter)'" class="go" data-testid="run" @click="runs.runNow(runs.quality)">Run</v-btn>
  </header>
</template>

<script setup lang="ts">
import {
  mdiAlertOctagonOutline,
  mdiAlertOutline,
  mdiHistory,
  mdiInformationOutline,
  mdiKeyboardOutline,
  mdiRedo,
  mdiThemeLightDark,
  mdiUndo,
} from '@mdi/js'
import { computed } from 'vue'
import { useTheme } from 'vuetify'
import RunCost from './RunCost.vue'
import type { Finding } from '../api/model'
import PickOne from '../controls/PickOne.vue'
import TextLine from '../controls/TextLine.vue'
import { inNames, placeWords } from '../score/places'
import { useMeasuring } from '../stores/measuring'
import { useRuns } from '../stores/runs'
import { useStudy } from '../stores/study'

const emit = defineEmits<{ search: []; history: []; keys: [] }>()
const QUALITIES = (['preview', 'full'] as const).map((id) => ({ id, name: id }))
const study = useStudy()
const numbers = useMeasuring()
const runs = useRuns()
const theme = useTheme()
const running = computed(() => runs.run?.state === 'running' || runs.run?.state === 'waiting')
const worst = computed(() => numbers.findings[0]?.level ?? (numbers.checked === study.key ? 'fine' : ''))
const said = computed(
  () =>
    ({
      saved: 'saved',
      saving: 'saving …',
      unsaved: 'not saved yet',
      offline: 'not saved: no connection, trying again …',
      conflict: 'changed in another window',
      refused: `not saved: ${study.message}`,
    })[study.state],
)
function rename(typed: string) {
  const name = typed.trim()
  if (name && name !== study.doc?.name)
    study.edit(`Rename to ${name}`, (d) => {
      d.name = name
    })
}
function jump(where: string) {
  const [kind, id, step] = where.split('.')
  if (kind === 'shapes' || kind === 'regions') study.select({ kind: kind === 'shapes' ? 'shape' : 'region', id })
  else if (step && study.laneOf(id)?.steps.some((s) => s.id === step))
    study.select({ kind: 'step', lane: id, id: step })
  else study.select({ kind: 'lane', id })
}
function fix(f: Finding) {
  for (const [path, value] of Object.entries(f.fix!.set)) study.setPath(f.fix!.label, path, value)
  const more = f.fix!.append
  if (more) {
    study.edit(f.fix!.label, (d) => {
      d.fields.find((l) => l.id === more.lane)?.steps.push(more.step)
    })
    study.select({ kind: 'step', lane: more.lane, id: more.step.id })
  }
}
/** The answer is kept in the study: the finding does not come back. */
function meant(f: Finding) {
  study.edit(`Intended: ${f.what}`, (d) => {
    d.intended = [...(d.intended ?? []), `${f.code} ${f.where}`]
  })
}
function night() {
  const next = theme.global.name.value === 'night' ? 'paper' : 'night'
  theme.change(next)
  if (next === 'night') localStorage.setItem('night', '1')
  else localStorage.removeItem('night')
}
</script>

<style scoped>
.top {
  display: flex;
  align-items: center;
  gap: 11px;
  padding: 0 14px;
  border-bottom: 1px solid var(--line);
  min-width: 0;
  white-space: nowrap;
}
a {
  color: inherit;
  text-decoration: none;
}
a:hover {
  text-decoration: underline;
}
.title {
  width: 150px;
}
.title :deep(.v-field__outline) {
  opacity: 0;
}
.title:hover :deep(.v-field__outline),
.title :deep(.v-field--focused .v-field__outline) {
  opacity: 1;
}
.sp {
  flex: 1;
}
.finder {
  border: 1px solid var(--line);
  border-radius: 3px;
  background: var(--card);
  color: var(--muted);
  padding: 4px 10px;
  width: 130px;
  text-align: left;
  display: flex;
  justify-content: space-between;
}
.state {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  max-width: 340px;
}
.state.offline,
.state.conflict,
.state.refused {
  color: rgb(var(--v-theme-error));
}
button:disabled {
  opacity: 0.35;
}
.quality {
  width: 78px;
}
.checks {
  font-weight: 600;
}
.checks.fine {
  font-weight: 400;
  color: rgb(var(--v-theme-success));
}
.checks.note {
  color: rgb(var(--v-theme-secondary));
}
.checks.warning {
  color: rgb(var(--v-theme-warning));
}
.checks.error {
  color: rgb(var(--v-theme-error));
}
.found {
  padding: 10px 12px;
  max-height: 420px;
  overflow: auto;
}
.finding {
  display: grid;
  grid-template-columns: 26px 1fr;
  padding: 5px 0;
  border-bottom: 1px solid var(--soft);
}
.finding.error {
  color: rgb(var(--v-theme-error));
}
.finding.warning .v-icon {
  color: rgb(var(--v-theme-warning));
}
.finding b,
.finding span {
  display: block;
  font-weight: 400;
  color: rgb(var(--v-theme-on-surface));
}
.finding .where {
  font-size: 11px;
  text-decoration: underline;
  color: var(--muted);
}
</style>
