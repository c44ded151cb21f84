<!-- What the colours of the slice stand for, and the barbs on it. -->
<template>
  <div class="legend" data-testid="legend">
    <div class="row">
      <span>{{ legend.title }}</span><span class="num">{{ legend.unit }}</span>
    </div>
    <div class="colours" :style="{ background: gradientCss(legend.map) }" />
    <div class="row num">
      <span>{{ shown(legend.low, 3) }}</span><span>{{ shown((legend.low + legend.high) / 2, 3) }}</span
      ><span>{{ shown(legend.high, 3) }}</span>
    </div>
    <div class="row faint">
      <span v-if="barb !== null"
        >barb: full {{ shown(barb) }} {{ legend.unit }} · half {{ shown(barb / 2) }} {{ legend.unit }}</span
      ><span v-else />
      <v-btn class="plain" @click="shows.pinned = shows.pinned ? null : { ...look.mapping }">
        {{ shows.pinned ? 'pinned · fit' : 'fitted · pin' }}
      </v-btn>
    </div>
  </div>
</template>

<script setup lang="ts">
import { gradientCss } from '../lib/colour'
import { shown } from '../lib/quantity'
import { useLook } from '../stores/look'
import { useView } from '../stores/view'
import type { Legend } from './flipbook/film'

/** `barb`: what a full barb stands for; null where none is drawn. */
defineProps<{ legend: Legend; barb: number | null }>()
const look = useLook()
const shows = useView()
</script>

<style scoped>
.legend {
  position: absolute;
  z-index: 1;
  left: 14px;
  bottom: 12px;
  width: 236px;
  color: #dfe6f2;
  font-size: 11.5px;
  text-shadow: 0 0 4px #0f1b2d;
}
.legend button:hover {
  text-decoration: underline;
}
.row {
  display: flex;
  justify-content: space-between;
}
.colours {
  height: 8px;
  margin: 4px 0;
}
.faint {
  color: #b4c2da;
  margin-top: 3px;
}
</style>
