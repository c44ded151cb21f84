<template>
  <span class="chip">{{ rawWords(value, spec, study.doc) }}</span>
</template>

<script setup lang="ts">
import { rawWords } from '../../score/words'
import { useStudy } from '../../stores/study'
import type { Editing } from './editing'

/** A value that stands for itself, such as a field in the place of a number. */
defineProps<Editing>()
const study = useStudy()
</script>
