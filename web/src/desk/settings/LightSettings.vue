<template>
  <LightDial :azimuth="runs.light.azimuth" :height="runs.light.height" @put="put" />
  <v-btn size="small" variant="outlined" data-testid="fit-exposure" @click="$emit('expose')">Fit the exposure</v-btn>
  <ParamRow v-for="p in listed.all.light" :key="p.name" :spec="p" :raw="raw[p.name]" :owner="OWNER" />
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Params } from '../../api/model'
import ParamRow from '../../inspector/ParamRow.vue'
import { LIGHT, useCatalogue } from '../../stores/catalogue'
import { useRuns } from '../../stores/runs'
import { useStudy } from '../../stores/study'
import LightDial from './LightDial.vue'

defineEmits<{ expose: [] }>()
const OWNER = { kind: 'look', id: LIGHT } as const
const listed = useCatalogue()
const runs = useRuns()
const study = useStudy()
const raw = computed(() => (study.doc?.looks[LIGHT] ?? {}) as Params)
const put = (azimuth: number, height: number) =>
  study.edit(
    `Key light from ${azimuth}°, ${height}° high`,
    (d) => {
      d.looks[LIGHT] = { ...d.looks[LIGHT], azimuth, height } as never
    },
    'key light',
  )
</script>
