<template>
  <div class="file">
    <PickOne
      v-if="names.length || modelValue"
      :model-value="modelValue"
      :items="items"
      :label="label"
      :none="`${modelValue} (missing)`"
      @update:model-value="(v) => emit('update:modelValue', v)"
    />
    <FilePick v-slot="{ open }" :accept="ACCEPT[sort]" :testid="`file-${sort}`" @file="take"
      ><v-btn class="plain link" :disabled="busy" :data-testid="`upload-${sort}`" @click="open">
        {{ busy ? 'reading …' : 'import …' }}
      </v-btn></FilePick
    >
    <p v-if="said" :class="{ bad }" :role="bad ? 'alert' : 'status'">{{ said }}</p>
  </div>
</template>

<script setup lang="ts">
import { computed, onMounted, ref, watch } from 'vue'
import { call, uploadFile } from '../api/client'
import FilePick from '../controls/FilePick.vue'
import PickOne from '../controls/PickOne.vue'
import { useStudy } from '../stores/study'

const ACCEPT: Record<string, string> = {
  mesh: '.obj,.stl,.ply,.glb,.gltf',
  curve: '.obj,.svg,.usda,.usdc,.usd',
  outline: '.svg,.png,.jpg,.jpeg',
  volume: '.vdb,.npz,.vti',
}
const props = defineProps<{ modelValue: string; sort: string; label: string }>()
const emit = defineEmits<{ 'update:modelValue': [file: string] }>()
const study = useStudy()
const names = ref<string[]>([])
const items = computed(() => [{ id: '', name: 'none' }, ...names.value.map((n) => ({ id: n, name: n }))])
const said = ref('')
const bad = ref(false)
const busy = ref(false)
async function list() {
  const files = await call<{ name: string; sorts: string[] }[]>('GET', `/studies/${study.key}/files`).catch(() => [])
  names.value = files.filter((f) => f.sorts.includes(props.sort)).map((f) => f.name)
}
async function take(file: File) {
  busy.value = true
  bad.value = false
  try {
    await study.flush()
    const made = await uploadFile(`/studies/${study.key}/files`, file, props.sort)
    said.value = made.said
    await list()
    emit('update:modelValue', made.file)
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
