<template>
  <v-menu v-model="open" :close-on-content-click="false" location="top start">
    <template #activator="{ props: p }"
      ><v-btn class="plain plus" v-bind="p" :aria-label="`Add a step to ${lane.name}`" :data-testid="`add-${lane.id}`">
        +
      </v-btn></template
    >
    <v-card width="420" max-height="420" class="adder">
      <TextLine
        ref="field"
        stays
        :model-value="query"
        placeholder="Search steps"
        label="Search steps"
        testid="find-step"
        @input="(v) => (query = v)"
        @keydown.enter="pickFirst"
        @keydown.esc="open = false"
      />
      <div class="list">
        <v-btn
          v-for="e in found"
          :key="e.id"
          class="plain item"
          :disabled="!!e.why"
          :data-testid="`op-${e.id}`"
          @click="add(e)"
        >
          <span class="ic"
            ><img v-if="pictures[e.id] && !flow" :src="pictures[e.id]" alt="" /><v-icon
              v-else
              :icon="iconFor(e)"
              size="18"
          /></span>
          <span
            ><b>{{ e.label }}</b> <i class="muted">{{ e.kind }}</i><small>{{ e.why || e.yields }}</small></span
          >
        </v-btn>
        <p v-if="!found.length" class="muted">No step is called that.</p>
      </div>
    </v-card>
  </v-menu>
</template>

<script setup lang="ts">
import { iconFor } from './icons'
import { storeToRefs } from 'pinia'
import { computed, ref } from 'vue'
import type { Entry, Lane } from '../api/model'
import TextLine from '../controls/TextLine.vue'
import { useCatalogue } from '../stores/catalogue'
import { useStudy } from '../stores/study'
import { loadPictures, pictures } from '../lib/examples'
import { focusSoon } from '../lib/focus'
import { addStepTo, whyNot } from './adding'
import { watch } from 'vue'
import { useDesk } from '../stores/desk'

const props = defineProps<{ lane: Lane; after: string | null }>()
const study = useStudy()
const { opener } = storeToRefs(useDesk())
const listed = useCatalogue()
const open = ref(false)
const query = ref('')
const field = ref<{ input: () => HTMLElement | null } | null>(null)
const flow = computed(() => study.isFlow(props.lane.id))
const found = computed(() => {
  const words = query.value.toLowerCase().split(/\s+/).filter(Boolean)
  return listed
    .stepsOf(props.lane)
    .filter((e) => words.every((w) => `${e.label} ${e.yields} ${e.kind}`.toLowerCase().includes(w)))
    .map((e) => ({ ...e, why: whyNot(props.lane, e) }))
    .sort((a, b) => Number(!!a.why) - Number(!!b.why))
})
function pickFirst() {
  const first = found.value.find((e) => !e.why)
  if (first) add(first)
}
function add(e: Entry) {
  addStepTo(props.lane, e)
  open.value = false
  query.value = ''
}
watch(open, (on) => {
  if (on) {
    void loadPictures()
    focusSoon(() => field.value?.input())
  }
})
watch(opener, (lane) => {
  if (lane === props.lane.id) {
    open.value = true
    opener.value = ''
  }
})
</script>

<style scoped>
.adder {
  display: flex;
  flex-direction: column;
  padding: 8px;
}
.list {
  overflow: auto;
}
.item {
  display: grid;
  grid-template-columns: 50px 1fr;
  text-align: left;
  width: 100%;
  padding: 4px 6px;
  border-radius: 3px;
  align-items: center;
  color: inherit;
}
.item:hover:not(:disabled) {
  background: var(--soft);
}
.item:disabled {
  color: var(--muted);
  cursor: default;
}
.item:disabled b {
  font-weight: 400;
}
.item:disabled .ic {
  opacity: 0.35;
}
.ic img {
  width: 40px;
  height: 40px;
  display: block;
}
.item small {
  display: block;
  color: var(--muted);
}
.item i {
  font-style: normal;
  font-size: 11px;
}
</style>
