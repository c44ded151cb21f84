<template>
  <v-app
    ><router-view /><TipLayer /><CompilingNote :on-desk="$route.path.startsWith('/desk')" />
    <v-snackbar :model-value="!!desk.taken" timeout="8000" data-testid="taken" @update:model-value="desk.taken = ''">{{
      desk.taken
    }}</v-snackbar>
  </v-app>
</template>

<script setup lang="ts">
import CompilingNote from './controls/CompilingNote.vue'
import TipLayer from './controls/TipLayer.vue'
import { useDesk } from './stores/desk'

const desk = useDesk()
</script>
