<template>
  <div class="begin" data-testid="beginnings">
    <div class="cards">
      <BeginningCard
        v-for="b in offered"
        :key="b.id"
        :beginning="b"
        small
        :testid="`begin-with-${b.id}`"
        @click="begin(b.document)"
      />
    </div>
    <span class="muted">Begin with one of these, with + Field or + a flow, or import a mesh with + beside Shapes</span>
  </div>
</template>

<script setup lang="ts">
import { computed, onMounted, toRaw } from 'vue'
import type { StudyDoc } from '../api/model'
import BeginningCard from '../controls/BeginningCard.vue'
import { beginnings, loadBeginnings } from '../lib/beginnings'
import { useStudy } from '../stores/study'
import { useView } from '../stores/view'

const study = useStudy()
const shows = useView()
const offered = computed(() => beginnings.value.filter((b) => b.id !== 'blank'))
onMounted(() => void loadBeginnings())
/** All that the beginning has is put in; the study keeps its name if it was given one. */
function begin(offer: StudyDoc) {
  const made = structuredClone(toRaw(offer))
  study.edit(`Begin with ${made.name.toLowerCase()}`, (d) => {
    const named = d.name && d.name !== 'Untitled'
    Object.assign(d, { ...made, name: named ? d.name : made.name })
  })
  shows.adopt(made.looks.probe ?? {})
  const flow = made.flows[0]
  if (flow) study.select({ kind: 'lane', id: flow.id })
}
</script>

<style scoped>
.begin {
  position: absolute;
  z-index: 3;
  right: 14px;
  bottom: 10px;
  left: 150px;
  display: grid;
  gap: 6px;
}
.cards {
  display: flex;
  gap: 8px;
  overflow-x: auto;
}
</style>
