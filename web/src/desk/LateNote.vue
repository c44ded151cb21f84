<template>
  <v-alert
    v-if="work.again"
    class="late"
    density="compact"
    type="warning"
    variant="flat"
    role="status"
    data-testid="look-late"
  >
    {{ work.problem }}
    <template #append>
      <v-btn size="small" variant="outlined" data-testid="look-again" @click="work.again?.()">Try again</v-btn>
    </template>
  </v-alert>
</template>

<script setup lang="ts">
import { useWorking } from '../stores/working'

/** What the server gave up because it took too long: what is shown is of before, and it can be asked for again. */
const work = useWorking()
</script>

<style scoped>
.late {
  position: absolute;
  left: 12px;
  right: 12px;
  bottom: 12px;
  z-index: 3;
  max-width: 720px;
}
</style>
