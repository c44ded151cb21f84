<template>
  <v-dialog :model-value="open" width="1010" @update:model-value="emit('update:open', $event)">
    <v-card class="new" data-testid="new-dialog">
      <h2>Begin a study</h2>
      <div class="grid">
        <BeginningCard
          v-for="b in beginnings"
          :key="b.id"
          :beginning="b"
          :testid="`begin-${b.id}`"
          @click="emit('begin', b.id)"
        />
      </div>
    </v-card>
  </v-dialog>
</template>

<script setup lang="ts">
import { watch } from 'vue'
import BeginningCard from '../controls/BeginningCard.vue'
import { beginnings, loadBeginnings } from '../lib/beginnings'

const props = defineProps<{ open: boolean }>()
const emit = defineEmits<{ 'update:open': [open: boolean]; begin: [id: string] }>()
watch(
  () => props.open,
  (on) => on && void loadBeginnings(),
  { immediate: true },
)
</script>

<style scoped>
.new {
  padding: 14px 18px 18px;
}
h2 {
  font-size: 16px;
  margin-bottom: 10px;
}
.grid {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 12px;
}
</style>
