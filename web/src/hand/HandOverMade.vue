<!-- Deliveries that are written, proved, and that stand. -->
<template>
  <section v-if="going.length || made.length">
    <h2 class="over">Deliveries</h2>
    <v-table density="compact" class="listing">
      <tbody>
        <tr
          v-for="g in going.filter((x) => x.what === 'write' && x.state !== 'done')"
          :key="g.id"
          :data-testid="`going-${g.id}`"
        >
          <td class="path">{{ g.to }}</td>
          <td class="state">
            <v-progress-linear
              v-if="g.state === 'running'"
              :model-value="(100 * g.done) / g.total"
              height="4"
              color="success"
              :aria-label="`${g.done} of ${g.total} files`"
            /><span :class="{ bad: g.state === 'failed' }">{{ stateOf(g) }}</span>
          </td>
          <td class="right">
            <v-btn
              v-if="['running', 'waiting'].includes(g.state)"
              size="small"
              variant="outlined"
              data-testid="hand-stop"
              @click="$emit('stop', g.id)"
              >Stop</v-btn
            >
          </td>
        </tr>
        <tr v-for="m in made" :key="m.to" :data-testid="`made-${m.to.split('/').at(-1)}`">
          <td class="path">{{ m.to }}</td>
          <td>
            <span class="num">{{ m.files }} files, {{ bytes(m.bytes) }}</span
            ><span class="muted"> · {{ m.words }}</span>
          </td>
          <td class="right">
            <template v-if="proofOf(m.to)">
              <span v-if="runs(proofOf(m.to))" class="num" data-testid="hand-proof">{{ stateOf(proofOf(m.to)!) }}</span>
              <span v-else :class="{ bad: !sound(proofOf(m.to)!) }" data-testid="hand-proof">{{
                proofWords(proofOf(m.to)!)
              }}</span>
            </template>
            <v-btn v-if="runs(proofOf(m.to))" size="small" variant="outlined" @click="$emit('stop', proofOf(m.to)!.id)"
              >Stop</v-btn
            >
            <v-btn v-else size="small" variant="outlined" data-testid="hand-prove" @click="$emit('prove', m.to)"
              >Verify</v-btn
            >
            <v-btn
              size="small"
              variant="outlined"
              :href="`/api/hand-over/download?to=${encodeURIComponent(m.to)}`"
              :aria-label="`Download ${m.to.split('/').at(-1)} as one zip`"
              data-testid="hand-download"
              >Download</v-btn
            >
          </td>
        </tr>
      </tbody>
    </v-table>
  </section>
</template>

<script setup lang="ts">
import type { components } from '../api/schema'
import { bytes } from '../lib/quantity'

type Going = components['schemas']['GoingOut']
const props = defineProps<{ going: Going[]; made: components['schemas']['Made'][] }>()
defineEmits<{ stop: [id: string]; prove: [to: string] }>()

const runs = (g?: Going) => !!g && ['running', 'waiting'].includes(g.state)
/** The newest proof of a delivery. */
const proofOf = (to: string) => props.going.find((g) => g.what === 'prove' && g.to === to)
const stateOf = (g: Going) => {
  if (g.state === 'running' && g.message) return g.message
  if (g.state !== 'running') return g.message ? `${g.state}: ${g.message}` : g.state
  return `${g.done} of ${g.total}${g.left === null ? '' : `, ${Math.max(1, Math.round(g.left))} s left`}`
}
const sound = (g: Going) => g.state === 'stopped' || g.faults?.length === 0
const proofWords = (g: Going) => {
  if (!g.faults) return stateOf(g)
  if (!g.faults.length) return 'all as delivered'
  const more = g.faults.length > 1 ? `, and ${g.faults.length - 1} more` : ''
  return `${g.faults[0].name}: ${g.faults[0].what}${more}`
}
</script>

<style scoped>
.path {
  overflow-wrap: anywhere;
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
.right .v-btn + .v-btn {
  margin-left: 6px;
}
</style>
