<template>
  <div class="part" :class="{ sel: selected, dim }" :data-testid="testid" @click="$emit('select')">
    <div
      v-tip="bad"
      class="whole"
      role="button"
      tabindex="0"
      @keydown.enter="$emit('select')"
      @keydown.delete="$emit('remove')"
    >
      <v-icon :icon="icon" size="18" />
      <div>
        <b>{{ title }}</b><span :class="{ bad }">{{ bad ? 'needs attention' : line }}</span>
      </div>
    </div>
    <v-btn v-tip="'Remove (Del)'" class="plain x" aria-label="Remove" @click.stop="$emit('remove')">×</v-btn>
  </div>
</template>

<script setup lang="ts">
defineProps<{
  title: string
  line: string
  icon: string
  selected: boolean
  bad?: string
  dim?: boolean
  testid?: string
}>()
defineEmits<{ select: []; remove: [] }>()
</script>

<style scoped>
.part {
  flex: none;
  display: flex;
  gap: 8px;
  align-items: center;
  height: 40px;
  padding: 2px 8px;
  border: 1px solid var(--line);
  background: var(--card);
  border-radius: 2px;
  margin-right: 6px;
  max-width: 190px;
  cursor: pointer;
  position: relative;
}
.part.sel {
  border-color: var(--signal);
  box-shadow: 0 0 0 1px var(--signal);
}
.part.dim {
  border-style: dashed;
}
.part.dim b {
  font-weight: 400;
  color: var(--muted);
}
.part.dim .v-icon {
  opacity: 0.5;
}
.whole {
  display: flex;
  gap: 8px;
  align-items: center;
}
.part div {
  min-width: 0;
}
b,
span {
  display: block;
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
  font-size: 12px;
}
span {
  color: var(--muted);
  font-size: 11px;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.x {
  visibility: hidden;
  color: var(--muted);
  font-size: 15px;
}
.part:hover .x,
.part:focus-within .x {
  visibility: visible;
}
</style>
