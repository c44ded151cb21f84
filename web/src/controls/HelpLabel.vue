<template>
  <v-tooltip :text="help" location="bottom start" max-width="280" open-on-click>
    <template #activator="{ props: p }"
      ><button type="button" class="what" v-bind="p" :data-testid="testid">{{ words }}</button></template
    >
  </v-tooltip>
  <span :id="id" class="unseen">{{ help }}</span>
</template>

<script setup lang="ts">
/** The name of a parameter; what it does is told under the pointer, by a touch, by the keyboard, and to who listens. */
defineProps<{ id: string; words: string; help: string; testid?: string }>()
</script>

<style scoped>
.what {
  text-align: left;
  cursor: help;
}
</style>
