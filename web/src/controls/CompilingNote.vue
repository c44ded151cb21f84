<template>
  <v-alert
    v-if="compiling"
    :class="['compiling', { 'in-view': onDesk }]"
    color="surface"
    density="compact"
    variant="flat"
    role="status"
    data-testid="compiling"
  >
    <div class="row">
      <b>Preparing this machine, once</b>
      <span>{{ left }}</span>
    </div>
    <v-progress-linear
      :model-value="100 * compiling.share"
      :indeterminate="compiling.share < 0.02"
      color="signal"
      height="4"
      aria-label="Kernels compiled"
    />
    <small>Kernels are compiled for its processor. Studies can be opened and edited; pictures and runs follow.</small>
  </v-alert>
</template>

<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { askCompiling, compiling } from '../lib/compiling'
import { long } from '../lib/quantity'

/** The first start on a machine: how far the compiling of kernels is. */
defineProps<{ onDesk?: boolean }>()
const left = computed(() => {
  const { share, left } = compiling.value!
  return left === null ? `${Math.round(100 * share)} %` : `about ${long(left)} left`
})
onMounted(askCompiling)
</script>

<style scoped>
.compiling {
  position: fixed;
  right: 12px;
  bottom: 12px;
  z-index: 1500;
  width: 380px;
  border: 1px solid rgb(var(--v-theme-primary), 0.25);
}
.in-view {
  /* there is nothing in the view yet, and cards below it can be worked with */
  left: 12px;
  right: auto;
  top: 92px;
  bottom: auto;
}
.row {
  display: flex;
  justify-content: space-between;
  margin-bottom: 6px;
}
small {
  display: block;
  margin-top: 6px;
}
</style>
