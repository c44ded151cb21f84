<template>
  <v-btn class="plain card" :class="{ small }" :data-testid="testid">
    <img v-if="beginning.picture" :src="`/api/beginnings/${beginning.id}/picture`" alt="" />
    <span v-else class="bare"><v-icon :icon="mdiPlus" size="20" /></span>
    <b>{{ beginning.id === 'blank' ? 'Blank' : beginning.name }}</b>
    <span v-if="!small" class="muted">{{ beginning.about }}</span>
  </v-btn>
</template>

<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import type { Beginning } from '../lib/beginnings'

defineProps<{ beginning: Beginning; small?: boolean; testid: string }>()
</script>

<style scoped>
.card {
  display: grid;
  grid-template-columns: 132px 1fr;
  grid-template-rows: auto 1fr;
  column-gap: 10px;
  text-align: left;
  border: 1px solid var(--line);
  border-radius: 3px;
  overflow: hidden;
  background: var(--card);
  min-height: 84px;
}
.card:hover,
.card:focus-visible {
  border-color: var(--signal);
}
img,
.bare {
  grid-row: 1 / 3;
  width: 132px;
  height: 84px;
  object-fit: cover;
  background: #0f1b2d;
  color: #9fb0cc;
  display: grid;
  place-items: center;
}
b {
  padding: 7px 8px 0 0;
}
.card > .muted {
  align-self: start;
  padding: 0 8px 6px 0;
  font-size: 12px;
}
.small {
  grid-template-columns: 1fr;
  grid-template-rows: auto auto;
  width: 124px;
  flex: none;
}
.small img {
  grid-row: 1;
  width: 100%;
  height: 70px;
}
.small b {
  padding: 3px 7px 5px;
  font-size: 12px;
  font-weight: 400;
  white-space: nowrap;
}
</style>
