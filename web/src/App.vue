<template>
  <v-app><router-view /><TipLayer /></v-app>
</template>

<script setup lang="ts">
import TipLayer from './controls/TipLayer.vue'
</script>
