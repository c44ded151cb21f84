<template>
  <span v-tip="link.link" class="chip num">{{ rawWords(value, spec, study.doc) }}</span>
  <NumberField
    :value="link.times ?? 1"
    unit="×"
    :label="`${spec.label}, times`"
    :describedby="describedby"
    @change="(t) => emit('set', { ...link, times: t })"
  />
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Link, Raw } from '../../api/model'
import { rawWords } from '../../score/words'
import { useStudy } from '../../stores/study'
import NumberField from '../NumberField.vue'
import type { Editing } from './editing'

const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const study = useStudy()
const link = computed(() => props.value as Link)
</script>
