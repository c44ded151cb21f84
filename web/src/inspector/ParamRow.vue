<template>
  <div class="param" :class="{ picking: pickable }" :data-testid="`param-${spec.name}`">
    <v-btn v-if="pickable" class="plain pickme" :data-testid="`pick-${spec.name}`" @click="linkTo(path!, spec.label)">
      {{ spec.label }}
    </v-btn>
    <HelpLabel v-else :id="helpId" :words="spec.label" :help="help" :testid="`help-${spec.name}`" />
    <div class="v" :class="{ moment: spec.moment && !special }">
      <component
        :is="editor"
        :spec="spec"
        :value="value"
        :owner="owner"
        :mark="mark"
        :fitted="fitted"
        :channels="channels"
        :describedby="helpId"
        @set="set"
      />
      <v-menu v-if="numeric" location="bottom end">
        <template #activator="{ props: p }"
          ><v-btn
            class="plain dots"
            v-bind="p"
            :aria-label="`More for ${spec.label}`"
            :data-testid="`more-${spec.name}`"
          >
            ⋯
          </v-btn></template
        >
        <v-list density="compact">
          <v-list-item
            v-if="!special && !mark && keyable"
            title="Key over time"
            subtitle="a value that changes"
            @click="set({ keys: [[0, value as number]] } as Keys)"
          />
          <v-list-item
            v-if="spec.type === 'number' && !special && !mark"
            title="Link to a parameter …"
            subtitle="then choose it on the screen"
            :data-testid="`link-${spec.name}`"
            @click="waiting = { owner: owner as Selection, spec }"
          />
          <v-list-item
            v-for="l in linkable"
            :key="l.path"
            :title="`Link to ${l.name}`"
            :subtitle="l.path"
            @click="set({ link: l.path, times: l.times } as Link)"
          />
          <v-list-item
            v-for="f in spec.varies ? fields : []"
            :key="f.id"
            :title="`Use field ${f.name}`"
            subtitle="a scalar field in its place"
            @click="set({ field: f.id })"
          />
          <v-list-item v-if="special" title="A plain number again" @click="set(plain)" />
          <v-list-item
            title="Default"
            :subtitle="rawWords(spec.default, spec, study.doc)"
            @click="study.setParam(owner, spec, undefined, 'to its default')"
          />
        </v-list>
      </v-menu>
    </div>
  </div>
</template>

<script setup lang="ts">
import { storeToRefs } from 'pinia'
import { computed, useId } from 'vue'
import type { Keys, Link, ParamSpec, Raw } from '../api/model'
import HelpLabel from '../controls/HelpLabel.vue'
import { changeWords, rawWords } from '../score/words'
import { useLook } from '../stores/look'
import { useStudy, type Owner, type Selection } from '../stores/study'
import { editorOf, specialOf } from './editors'
import { unitOf } from './editors/editing'
import { linkTo, pathOf } from './linking'
import { useDesk } from '../stores/desk'

const props = withDefaults(
  defineProps<{
    spec: ParamSpec
    raw: Raw | undefined
    owner: Owner
    auto?: number
    channels?: { id: string; name: string }[]
    keyable?: boolean
  }>(),
  { auto: undefined, channels: undefined, keyable: true },
)
/** Rows of a look are told from those of a step. */
const mark = computed(() => (props.owner?.kind === 'look' ? 'look-' : ''))
const study = useStudy()
const { waiting } = storeToRefs(useDesk())
const look = useLook()
const helpId = useId()
const value = computed<Raw>(
  () => props.raw ?? props.spec.default ?? props.auto ?? (props.spec.type === 'shapes' ? [] : ''),
)
const fitted = computed(() => props.auto !== undefined && (props.raw ?? props.spec.default) === null)
const special = computed(() => specialOf(props.raw))
const editor = computed(() => editorOf(props.spec, special.value))
const numeric = computed(() => ['number', 'integer', 'vector'].includes(props.spec.type))
const help = computed(() => {
  const s = props.spec
  const [a, b] = s.range
  const range = a !== null || b !== null ? ` Range ${a ?? '…'} to ${b ?? '…'} ${unitOf(s)}.` : ''
  return `${s.help}.${range} Default ${rawWords(s.default, s, study.doc)}.`
})
const fields = computed(() =>
  (study.doc?.fields ?? []).filter(
    (f) => f.id !== (props.owner?.kind === 'step' ? props.owner.lane : '') && look.endsAs(f.id, 'scalar'),
  ),
)
const linkable = computed(() =>
  props.spec.type === 'number' && props.spec.unit === 'm'
    ? (study.doc?.regions ?? [])
        .filter((r) => !(props.owner?.kind === 'region' && props.owner.id === r.id))
        .map((r) => ({
          path: `regions.${r.id}.voxel_size`,
          name: `voxel size of ${r.name}`,
          times: props.owner?.kind === 'region' ? 1 : 6,
        }))
    : [],
)
const plain = computed<Raw>(() => {
  const r = props.raw as Keys | Link
  return 'keys' in r ? (r.keys[0][1] as Raw) : props.spec.default
})
const path = computed(() => (props.owner?.kind === 'look' ? null : pathOf(props.owner, props.spec.name)))
const pickable = computed(
  () =>
    !!waiting.value &&
    props.spec.type === 'number' &&
    special.value !== 'field' &&
    !!path.value &&
    path.value !== pathOf(waiting.value.owner, waiting.value.spec.name),
)
function set(next: Raw) {
  study.setParam(props.owner, props.spec, next, changeWords(value.value, next, props.spec, study.doc))
}
</script>

<style scoped>
.param {
  display: grid;
  grid-template-columns: 92px 1fr;
  gap: 8px;
  align-items: center;
  min-height: 29px;
  border-bottom: 1px solid var(--soft);
}
.v {
  display: flex;
  justify-content: flex-end;
  align-items: center;
  gap: 5px;
  min-width: 0;
  flex-wrap: wrap;
}
.picking {
  box-shadow: inset 2px 0 0 var(--signal);
}
.pickme {
  text-align: left;
  color: var(--signal-text);
  text-decoration: underline;
}
.moment {
  flex-wrap: nowrap;
}
.dots {
  color: var(--muted);
  width: 14px;
}
</style>
