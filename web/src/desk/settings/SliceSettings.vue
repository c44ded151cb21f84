<template>
  <PlaneRows />
  <div class="row">
    <span>Range</span
    ><span class="num">{{ shown(look.mapping.low, 3) }} … {{ shown(look.mapping.high, 3) }} {{ unit }}</span
    ><v-btn size="small" @click="shows.pinned = shows.pinned ? null : { ...look.mapping }">{{
      shows.pinned ? 'Fit' : 'Pin'
    }}</v-btn>
  </div>
</template>

<script setup lang="ts">
import { computed } from 'vue'
import { shown } from '../../lib/quantity'
import { useLook } from '../../stores/look'
import { useView } from '../../stores/view'
import PlaneRows from './PlaneRows.vue'

const look = useLook()
const shows = useView()
const unit = computed(() => look.slice?.facts.unit ?? '')
</script>
