<template>
  <PickOne
    :model-value="String(value ?? '')"
    :items="items"
    :label="spec.label"
    :none="spec.optional ? 'none' : value ? String(value) : 'choose …'"
    :testid="mark ? `look-${spec.name}` : `select-${spec.name}`"
    @update:model-value="(v) => emit('set', v)"
  />
</template>

<script setup lang="ts">
import { computed } from 'vue'
import type { Raw } from '../../api/model'
import PickOne from '../../controls/PickOne.vue'
import { choiceWords } from '../../kinds/looks'
import { useCatalogue } from '../../stores/catalogue'
import { useLook } from '../../stores/look'
import { useStudy } from '../../stores/study'
import type { Editing } from './editing'

/** One of a few words, or one of the study's shapes, regions, fields, flows or channels. */
const props = defineProps<Editing>()
const emit = defineEmits<{ set: [value: Raw] }>()
const study = useStudy()
const listed = useCatalogue()
const look = useLook()
const own = computed(() => (props.owner?.kind === 'step' ? props.owner.lane : ''))
/** Flows that offer what the step takes from them, but for its own. */
const flows = computed(() => {
  const fits = (kind: string | undefined) => !props.spec.provides || listed.provides(kind, props.spec.provides)
  return (study.doc?.flows ?? [])
    .filter((f) => f.id !== own.value && fits(f.kind))
    .flatMap((f) => {
      const more = listed.heldBy(f.kind).filter((r) => r.form === props.spec.provides)
      return [f, ...more.slice(1).map((r) => ({ id: `${f.id}:${r.name}`, name: `${f.name} · ${r.label}` }))]
    })
})
const options = computed<{ id: string; name: string }[]>(() => {
  const d = study.doc
  const { type, choices, wants } = props.spec
  if (type === 'choice') return choices.map((c) => ({ id: c, name: props.mark ? choiceWords(c) : c }))
  if (type === 'channel') return props.channels ?? []
  if (!d) return []
  if (type === 'shape') return props.spec.name === 'curve' ? d.shapes : [...d.shapes, ...look.asShapes(own.value)]
  if (type === 'region') return d.regions
  if (type === 'flow') return flows.value
  return d.fields.filter((f) => f.id !== own.value && (!wants || f.id === props.value || look.endsAs(f.id, wants)))
})
const items = computed(() => [
  ...(props.spec.optional ? [{ id: '', name: 'none' }] : []),
  ...options.value.map(({ id, name }) => ({ id, name })),
])
</script>
