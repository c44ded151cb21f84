<!-- What is handed over: results of runs, fields and shapes of the study as it stands, flipbooks. -->
<template>
  <section>
    <h2 class="over">What</h2>
    <v-table density="compact" class="listing">
      <thead>
        <tr>
          <th></th>
          <th>Of</th>
          <th>Result</th>
          <th class="right">Frames</th>
          <th>Format</th>
          <th>Channels</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="(x, i) in rows" :key="x.id">
          <tr v-if="x.sort !== 'run' && rows[i - 1]?.sort !== x.sort" class="between">
            <td></td>
            <td colspan="5" class="muted">
              {{ x.sort === 'field' ? 'Fields of the study as it stands, on the voxels of a region' : 'Shapes of it' }}
            </td>
          </tr>
          <tr :data-testid="`offer-${x.test}`">
            <td>
              <TickBox
                :model-value="!!chosen[x.id]"
                :label="`Hand over ${x.label} of ${x.name}`"
                :testid="`take-${x.test}`"
                @update:model-value="(on) => choose(x, on)"
              />
            </td>
            <td>
              {{ x.name }} <span class="muted">{{ x.quality }}</span>
            </td>
            <td>
              <span v-if="x.sort === 'field'" class="on"
                >on
                <PickOne
                  v-if="chosen[x.id] && x.regions.length > 1"
                  v-model="chosen[x.id].region"
                  :items="x.regions.map((id) => ({ id, name: id }))"
                  :label="`Region of ${x.name}`"
                  :testid="`region-${x.test}`"
                /><span v-else>{{ chosen[x.id]?.region ?? x.regions[0] }}</span></span
              ><template v-else>{{ x.label }}</template>
            </td>
            <td class="right num">
              <span v-if="x.still" v-tip="'It never changes: one file stands for all frames'" tabindex="0">one</span
              ><template v-else>{{ x.first }} … {{ x.last }}</template>
            </td>
            <td>
              <PickOne
                v-if="chosen[x.id]"
                v-model="chosen[x.id].format"
                :items="x.formats.map((id) => ({ id, name: id }))"
                :label="`Format of ${x.label} of ${x.name}`"
                :testid="`format-${x.test}`"
              /><span v-else class="muted">{{ x.formats[0] }}</span>
            </td>
            <td class="channels">
              <template v-if="chosen[x.id] && x.channels.length"
                ><v-btn
                  v-for="c in x.channels"
                  :key="c"
                  class="plain channel"
                  :aria-pressed="takes(x, c)"
                  :data-testid="`channel-${x.result}-${c}`"
                  @click="toggle(x, c)"
                >
                  {{ c }}
                </v-btn></template
              ><span v-else class="muted">{{ x.words || x.channels.join(', ') }}</span>
            </td>
          </tr>
        </template>
      </tbody>
    </v-table>
    <div v-for="f in flipbooks" :key="f.id" class="film">
      <TickBox
        :model-value="films.includes(f.id)"
        :words="`flipbook of frames ${f.first} to ${f.last}, ${f.width} × ${f.height}`"
        :testid="`film-${f.id}`"
        @update:model-value="(on) => (films = on ? [...films, f.id] : films.filter((x) => x !== f.id))"
      />
      <span class="muted num">{{ bytes(f.bytes) }}</span>
      <v-btn
        class="plain"
        :aria-label="`Forget the flipbook of frames ${f.first} to ${f.last}`"
        :data-testid="`forget-${f.id}`"
        @click="$emit('forget', f.id)"
      >
        ×
      </v-btn>
    </div>
  </section>
</template>

<script setup lang="ts">
import type { components } from '../api/schema'
import PickOne from '../controls/PickOne.vue'
import TickBox from '../controls/TickBox.vue'
import { bytes } from '../lib/quantity'
import { chosenOf, type Chosen, type Row } from './choices'

defineProps<{ rows: Row[]; flipbooks: components['schemas']['FlipbookOut'][] }>()
defineEmits<{ forget: [id: string] }>()
const chosen = defineModel<Record<string, Chosen>>('chosen', { required: true })
/** Ids of the flipbooks that go along. */
const films = defineModel<string[]>('films', { required: true })

function choose(x: Row, on: boolean) {
  const now = { ...chosen.value }
  if (on) now[x.id] = chosenOf(x)
  else delete now[x.id]
  chosen.value = now
}
const takes = (x: Row, c: string) => {
  const some = chosen.value[x.id].channels
  return !some.length || some.includes(c)
}
function toggle(x: Row, c: string) {
  const now = x.channels.filter((k) => (k === c ? !takes(x, k) : takes(x, k)))
  chosen.value[x.id].channels = now.length === x.channels.length ? [] : now
}
</script>

<style scoped>
.on {
  display: flex;
  align-items: center;
  gap: 6px;
}
.between td {
  border-bottom: 0 !important;
  padding-top: 10px !important;
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
section {
  margin-bottom: 18px;
}
</style>
