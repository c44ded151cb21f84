<template>
  <div class="file">
    <select
      v-if="names.length || value"
      :value="value"
      :aria-label="label"
      @change="$emit('change', ($event.target as HTMLSelectElement).value)"
    >
      <option value="">none</option>
      <option v-for="n in names" :key="n" :value="n">{{ n }}</option>
      <option v-if="value && !names.includes(value)" :value="value">{{ value }} (missing)</option>
    </select>
    <button class="link" :disabled="busy" :data-testid="`upload-${sort}`" @click="picker?.click()">
      {{ busy ? 'reading …' : 'import …' }}
    </button>
    <input ref="picker" type="file" hidden :accept="ACCEPT[sort]" :data-testid="`file-${sort}`" @change="take" />
    <p v-if="said" :class="{ bad }" :role="bad ? 'alert' : 'status'">{{ said }}</p>
  </div>
</template>

<script setup lang="ts">
import { onMounted, ref, watch } from 'vue'
import { call, uploadFile } from '../api/client'
import { useStudy } from '../stores/study'

const ACCEPT: Record<string, string> = {
  mesh: '.obj,.stl,.ply,.glb,.gltf',
  curve: '.obj,.svg,.usda,.usdc,.usd',
  outline: '.svg,.png,.jpg,.jpeg',
  volume: '.vdb,.npz,.vti',
}
const props = defineProps<{ value: string; sort: string; label: string }>()
const emit = defineEmits<{ change: [file: string] }>()
const study = useStudy()
const picker = ref<HTMLInputElement | null>(null)
const names = ref<string[]>([])
const said = ref('')
const bad = ref(false)
const busy = ref(false)
async function list() {
  const files = await call<{ name: string; sorts: string[] }[]>('GET', `/studies/${study.key}/files`).catch(() => [])
  names.value = files.filter((f) => f.sorts.includes(props.sort)).map((f) => f.name)
}
async function take(event: Event) {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  input.value = ''
  if (!file) return
  busy.value = true
  bad.value = false
  try {
    await study.flush()
    const made = await uploadFile(`/studies/${study.key}/files`, file, props.sort)
    said.value = made.said
    await list()
    emit('change', made.file)
  } catch (error) {
    bad.value = true
    said.value = (error as Error).message
  }
  busy.value = false
}
onMounted(list)
watch(() => props.sort, list)
</script>

<style scoped>
.file {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  justify-content: flex-end;
  align-items: center;
}
select {
  border: 1px solid var(--line);
  border-radius: 10px;
  padding: 1px 8px;
  background: var(--card);
  color: inherit;
  font-size: 12px;
  max-width: 120px;
}
.link {
  color: var(--muted);
  font-size: 11.5px;
  text-decoration: underline;
}
p {
  width: 100%;
  text-align: right;
  font-size: 11.5px;
  margin: 0;
  overflow-wrap: anywhere;
}
.bad {
  color: rgb(var(--v-theme-error)) !important;
}
</style>
