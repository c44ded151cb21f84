<template>
  <v-dialog :model-value="open" width="520" @update:model-value="$emit('update:open', $event)">
    <v-card class="search" data-testid="search">
      <TextLine
        ref="field"
        stays
        :model-value="query"
        placeholder="Search steps, lanes, shapes and actions"
        label="Search everything"
        testid="search-field"
        @input="(v) => (query = v)"
        @keydown.enter="go(found[at])"
        @keydown.down.prevent="at = Math.min(at + 1, found.length - 1)"
        @keydown.up.prevent="at = Math.max(at - 1, 0)"
        @keydown.esc="$emit('update:open', false)"
      />
      <div class="list" role="listbox" aria-label="What was found">
        <v-btn
          v-for="(f, i) in found"
          :key="f.kind + f.name + i"
          class="plain"
          role="option"
          :aria-selected="i === at"
          :class="{ on: i === at }"
          @click="go(f)"
          @mouseenter="at = i"
        >
          <b>{{ f.name }}</b><span>{{ f.kind }}</span
          ><i v-if="f.key" class="kbd">{{ f.key }}</i>
        </v-btn>
        <p v-if="!found.length" class="muted">Nothing is called that.</p>
      </div>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import TextLine from '../controls/TextLine.vue'
import { useCatalogue } from '../stores/catalogue'
import { useStudy } from '../stores/study'
import { focusSoon } from '../lib/focus'
import { addStepTo } from '../score/adding'
import type { Action } from './actions'

const props = defineProps<{ open: boolean; actions: Action[] }>()
const emit = defineEmits<{ 'update:open': [open: boolean] }>()
const study = useStudy()
const listed = useCatalogue()
const query = ref('')
const at = ref(0)
const field = ref<{ input: () => HTMLElement | null } | null>(null)
interface Found {
  name: string
  kind: string
  key?: string
  act: () => void
}
const everything = computed<Found[]>(() => {
  const lane = study.selectedLane
  return [
    ...props.actions.map((a) => ({ name: a.name, kind: 'action', key: a.key, act: a.act })),
    ...study.lanes.map((l) => ({ name: l.name, kind: 'lane', act: () => study.select({ kind: 'lane', id: l.id }) })),
    ...study.lanes.flatMap((l) =>
      l.steps.map((s) => ({
        name: `${l.name} · ${study.entry(s.op, l.id)?.label ?? s.op}`,
        kind: 'step',
        act: () => study.select({ kind: 'step', lane: l.id, id: s.id }),
      })),
    ),
    ...(study.doc?.shapes ?? []).map((s) => ({
      name: s.name,
      kind: 'shape',
      act: () => study.select({ kind: 'shape', id: s.id }),
    })),
    ...(study.doc?.regions ?? []).map((r) => ({
      name: r.name,
      kind: 'region',
      act: () => study.select({ kind: 'region', id: r.id }),
    })),
    ...(lane
      ? listed
          .stepsOf(lane)
          .map((e) => ({ name: e.label, kind: `add to ${lane.name}: ${e.yields}`, act: () => addStepTo(lane, e) }))
      : []),
  ]
})
const found = computed(() => {
  const words = query.value.toLowerCase().split(/\s+/).filter(Boolean)
  const fits = everything.value.filter((f) => words.every((w) => `${f.name} ${f.kind}`.toLowerCase().includes(w)))
  const begins = (f: Found) => (words.length && f.name.toLowerCase().startsWith(words[0]) ? 0 : 1)
  return fits.sort((a, b) => begins(a) - begins(b)).slice(0, 60)
})
function go(f: Found | undefined) {
  if (!f) return
  emit('update:open', false)
  f.act()
}
watch(
  () => props.open,
  (on) => {
    if (on) {
      query.value = ''
      at.value = 0
      focusSoon(() => field.value?.input())
    }
  },
)
watch(query, () => {
  at.value = 0
})
</script>

<style scoped>
.search {
  padding: 10px;
  display: flex;
  flex-direction: column;
  max-height: 460px;
}
.list {
  overflow: auto;
  margin-top: 6px;
}
.list button {
  display: flex;
  gap: 10px;
  width: 100%;
  text-align: left;
  padding: 4px 8px;
  align-items: baseline;
}
.list button span {
  color: var(--muted);
  flex: 1;
  font-size: 12px;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.list .on {
  background: var(--soft);
}
.kbd {
  font-style: normal;
}
</style>
