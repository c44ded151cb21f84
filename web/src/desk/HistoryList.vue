<template>
  <v-dialog :model-value="open" width="520" @update:model-value="$emit('update:open', $event)">
    <v-card class="pa-4" data-testid="history"
      ><h2>History of {{ study.doc?.name }}</h2>
      <p class="muted">
        {{ more ? `The newest ${rows.length} of ${rows.length + more} saved edits.` : 'Every saved edit.' }} Bringing
        one back adds to the history; nothing is lost.
      </p>
      <div class="rows">
        <div v-for="r in rows" :key="r.revision" class="row" :class="{ now: r.revision === study.revision }">
          <span class="num muted">{{ toSecond(r.created) }}</span><span>{{ r.label }}</span>
          <span v-if="r.revision === study.revision" class="muted">now</span
          ><v-btn
            v-else
            size="small"
            variant="outlined"
            :data-testid="`restore-${r.revision}`"
            @click="back(r.revision)"
            >Bring back</v-btn
          >
        </div>
        <v-btn v-if="more" class="my-2" size="small" variant="text" data-testid="older" @click="older"
          >Show older edits</v-btn
        >
      </div>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { call, type Revision } from '../api/client'
import { toSecond } from '../lib/when'
import { useStudy } from '../stores/study'

const props = defineProps<{ open: boolean }>()
const emit = defineEmits<{ 'update:open': [open: boolean] }>()
const study = useStudy()
const rows = ref<Revision[]>([])
const more = computed(() => rows.value.at(-1)?.older ?? 0)
watch(
  () => props.open,
  async (on) => {
    if (on) {
      await study.flush()
      rows.value = []
      await older()
    }
  },
)
async function older() {
  const last = rows.value.at(-1)
  const before = last ? `?before=${last.revision}` : ''
  const found = await call<Revision[]>('GET', `/studies/${study.key}/history${before}`)
  rows.value = [...rows.value, ...found]
}
async function back(revision: number) {
  await study.restore(revision)
  emit('update:open', false)
}
</script>

<style scoped>
.rows {
  max-height: 420px;
  overflow: auto;
}
.row {
  display: grid;
  grid-template-columns: 124px 1fr auto;
  gap: 10px;
  align-items: center;
  padding: 3px 0;
  border-top: 1px solid var(--soft);
  min-height: 30px;
}
.now {
  font-weight: 600;
}
</style>
