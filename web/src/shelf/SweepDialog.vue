<template>
  <v-dialog :model-value="modelValue" width="760" @update:model-value="(on) => emit('update:modelValue', on)">
    <v-card class="ask" data-testid="sweep-dialog">
      <h2>Sweep</h2>
      <p class="muted">
        The study as it stands, with other values: a run for each. Values as <span class="num">1, 2, 3</span> or
        <span class="num">0.2:2:5</span>, five even ones; <span class="num">0.2:2</span> with draws takes any between.
      </p>
      <div class="pair">
        <span>Flow</span><PickOne v-model="flow" :items="flows" label="Flow" testid="sweep-flow" /><span>Quality</span
        ><PickOne v-model="quality" :items="QUALITIES" label="Quality" testid="sweep-quality" />
      </div>
      <div v-for="(v, i) in vary" :key="i" class="vary">
        <PickOne
          v-model="v.path"
          search
          :items="variables.map((x) => ({ id: x.path, name: x.label }))"
          :label="`Parameter ${i + 1}`"
          none="choose a parameter …"
          :testid="`vary-path-${i}`"
        />
        <TextLine
          :model-value="v.values"
          :label="`Values of parameter ${i + 1}`"
          :placeholder="hint(v.path)"
          :testid="`vary-values-${i}`"
          @input="(t) => (v.values = t)"
        />
        <v-btn v-if="vary.length > 1" class="plain" :aria-label="`Remove parameter ${i + 1}`" @click="vary.splice(i, 1)"
          >×</v-btn
        >
        <span v-else />
      </div>
      <div class="pair">
        <v-btn size="small" variant="outlined" data-testid="vary-add" @click="vary.push({ path: '', values: '' })"
          >Another parameter</v-btn
        >
        <span class="sp" />
        <span>Draws</span>
        <NumberField
          :value="samples"
          unit="runs"
          label="Draws from the ranges"
          :low="0"
          :high="512"
          integer
          testid="sweep-samples"
          @change="(v) => (samples = v)"
        />
      </div>
      <p v-if="problem" class="bad" role="alert" data-testid="sweep-problem">{{ problem }}</p>
      <p v-else-if="told" role="status" data-testid="sweep-forecast">
        <b>{{ told.count }} runs</b>
        <span class="muted"> · {{ told.labels.slice(0, 4).join(' · ') }}{{ told.count > 4 ? ' …' : '' }}</span
        ><br />{{ cost }}
      </p>
      <v-btn class="go" :disabled="!told || busy" data-testid="sweep-go" @click="go">Run them</v-btn>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { call } from '../api/client'
import type { StudyOut } from '../api/model'
import type { components } from '../api/schema'
import PickOne from '../controls/PickOne.vue'
import TextLine from '../controls/TextLine.vue'
import NumberField from '../inspector/NumberField.vue'
import { bytes } from '../lib/quantity'
import { afterwards, callOff } from '../lib/rest'

type Variable = components['schemas']['Variable']
type Forecast = components['schemas']['Forecast']
const props = defineProps<{ modelValue: boolean; study: string }>()
const emit = defineEmits<{ 'update:modelValue': [on: boolean] }>()
const QUALITIES = (['preview', 'full'] as const).map((id) => ({ id, name: id }))
const REST = 350
const router = useRouter()
const flows = ref<{ id: string; name: string }[]>([])
const flow = ref('')
const quality = ref<'preview' | 'full'>('preview')
const variables = ref<Variable[]>([])
const vary = ref([{ path: '', values: '' }])
const samples = ref(0)
const told = ref<Forecast | null>(null)
const problem = ref('')
const busy = ref(false)

const hint = (path: string) => {
  const v = variables.value.find((x) => x.path === path)
  return v ? (v.choices.length ? v.choices.join(', ') : `now ${v.now}`) : '1, 2, 3'
}
const cost = computed(() => {
  const t = told.value
  if (!t) return ''
  const memory = `at most ${bytes(t.memory)} of memory each`
  if (t.seconds === null || t.disk === null) return `${memory}; time and disk are known once one has run`
  const time = t.seconds < 90 ? `${Math.max(1, Math.round(t.seconds))} s` : `${Math.round(t.seconds / 60)} min`
  return `about ${time} one after the other, ${bytes(t.disk)} on disk, ${memory} (by ${t.basis})`
})
watch(
  () => props.modelValue,
  async (on) => {
    if (!on) return
    problem.value = ''
    try {
      const { document } = await call<StudyOut>('GET', `/studies/${props.study}`)
      flows.value = document.flows.map(({ id, name }) => ({ id, name }))
      if (!flows.value.some((f) => f.id === flow.value)) flow.value = flows.value[0]?.id ?? ''
    } catch (error) {
      problem.value = (error as Error).message
    }
  },
)
watch([flow, () => props.modelValue], async () => {
  if (!flow.value || !props.modelValue) return
  try {
    variables.value = await call<Variable[]>('GET', `/sweeps/parameters?study=${props.study}&flow=${flow.value}`)
  } catch (error) {
    problem.value = (error as Error).message
  }
})
const body = () => ({
  study: props.study,
  flow: flow.value,
  quality: quality.value,
  vary: vary.value.filter((v) => v.path && v.values.trim()),
  samples: samples.value,
})
let waits = 0
watch(
  [vary, samples, quality, flow],
  () => {
    callOff(waits)
    told.value = null
    if (!body().vary.length) return
    waits = afterwards(async () => {
      const asked = JSON.stringify(body())
      try {
        const made = await call<Forecast>('POST', '/sweeps/forecast', body())
        if (asked !== JSON.stringify(body())) return
        told.value = made
        problem.value = ''
      } catch (error) {
        if (asked === JSON.stringify(body())) problem.value = (error as Error).message
      }
    }, REST)
  },
  { deep: true },
)
async function go() {
  busy.value = true
  try {
    const { sweep } = await call<{ sweep: string }>('POST', '/sweeps', body())
    await router.push(`/sweep/${sweep}`)
  } catch (error) {
    problem.value = (error as Error).message
  }
  busy.value = false
}
</script>

<style scoped>
.pair {
  display: flex;
  gap: 10px;
  align-items: center;
  font-size: 12px;
}
.sp {
  flex: 1;
}
.vary {
  display: grid;
  grid-template-columns: 1fr 1fr 20px;
  gap: 10px;
  align-items: center;
}
.vary > * {
  width: 100%;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.go {
  justify-self: end;
}
</style>
