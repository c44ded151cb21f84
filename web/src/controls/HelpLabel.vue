<template>
  <v-btn v-tip="help" class="plain what" :data-testid="testid">{{ words }}</v-btn>
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
