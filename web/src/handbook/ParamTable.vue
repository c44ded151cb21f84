<template>
  <table ref="table">
    <tbody>
      <template v-for="p in entry.params" :key="p.name">
        <tr>
          <th>{{ p.label }}</th>
          <td>{{ p.help }}</td>
          <td class="num">{{ range(p) }}</td>
        </tr>
        <tr v-if="seen[p.name]" class="figures" :data-testid="`figure-${entry.id}-${p.name}`">
          <td></td>
          <td colspan="2">
            <figure v-for="s in seen[p.name]" :key="String(s.value)">
              <img :src="s.url" :alt="`${p.label} ${words(s.value, p)}`" width="64" height="64" />
              <figcaption class="num muted">{{ words(s.value, p) }}</figcaption>
            </figure>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import type { Entry, ParamSpec, Raw, ShapeEntry } from '../api/model'
import { figures, loadFigures, type Shown } from '../lib/examples'
import { rawWords } from '../score/words'

/** Parameters with what they do; pictures are asked for when the table comes into sight. */
const props = defineProps<{ entry: ShapeEntry & Partial<Entry> }>()
const table = ref<HTMLElement | null>(null)
const drawn = computed(() => props.entry.lane === 'field')
const seen = computed<Record<string, Shown[]>>(() => (drawn.value && figures.value[props.entry.id]) || {})
const words = (value: Shown['value'], p: ParamSpec) => rawWords(value as Raw, p, null)
function range(p: ParamSpec) {
  const [a, b] = p.range
  const limits = a !== null || b !== null ? ` (${a ?? '…'} to ${b ?? '…'})` : ''
  return p.required ? 'to be chosen' : rawWords(p.default, p, null) + limits
}
let watcher: IntersectionObserver | undefined
onMounted(() => {
  if (!drawn.value) return
  watcher = new IntersectionObserver((met) => {
    if (!met.some((m) => m.isIntersecting)) return
    watcher?.disconnect()
    void loadFigures(props.entry.id)
  })
  watcher.observe(table.value!)
})
onBeforeUnmount(() => watcher?.disconnect())
</script>

<style scoped>
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 12px;
}
th {
  text-align: left;
  font-weight: 600;
  width: 140px;
  padding: 2px 0;
  vertical-align: top;
}
td:last-child:not([colspan]) {
  text-align: right;
  white-space: nowrap;
  padding-left: 12px;
}
tr:not(.figures) {
  border-top: 1px solid var(--soft);
}
figure {
  display: inline-block;
  vertical-align: top;
  width: 68px;
  margin: 2px 8px 6px 0;
}
img {
  display: block;
  width: 66px;
  height: 66px;
  border: 1px solid var(--line);
}
figcaption {
  font-size: 11px;
  text-align: center;
}
</style>
