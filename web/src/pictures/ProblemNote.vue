<script setup lang="ts">
import type { Problem } from '../api/client'

/** What went wrong and what to do, with a way to try again. */
defineProps<{ problem: Problem }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <div class="sheet problem" role="alert">
    <h2>{{ problem.title }}</h2>
    <p class="detail">{{ problem.detail }}</p>
    <button type="button" @click="$emit('retry')">Retry</button>
  </div>
</template>

<style scoped>
.problem {
  border-left: 4px solid var(--warn);
}
.detail {
  white-space: pre-wrap;
}
button {
  font: inherit;
  border: 1px solid var(--plum);
  background: none;
  color: var(--plum);
  cursor: pointer;
  padding: 2px 10px;
}
</style>
