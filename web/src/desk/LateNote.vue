<template>
  <v-alert
    v-if="first"
    class="late"
    density="compact"
    type="warning"
    variant="flat"
    role="status"
    data-testid="look-late"
  >
    {{ first.words }}
    <template #append>
      <v-btn size="small" variant="outlined" data-testid="look-again" @click="work.again()">Try again</v-btn>
    </template>
  </v-alert>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { useWorking } from '../stores/working'

/** What the server gave up because it took too long: what is shown is of before, and it can be asked for again. */
const work = useWorking()
const first = computed(() => Object.values(work.late)[0])
</script>

<style scoped>
.late {
  position: absolute;
  left: 266px; /* beside the legend */
  right: 12px;
  bottom: 12px;
  z-index: 3;
  max-width: 720px;
}
</style>
