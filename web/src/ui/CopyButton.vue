<script setup lang="ts">
import { ref } from 'vue'

/** Copies a text; where the browser forbids it, it says so. */
const props = defineProps<{ text: string; name: string }>()
const says = ref('Copy')
async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(props.text)
    says.value = 'Copied'
    setTimeout(() => (says.value = 'Copy'), 1500)
  } catch {
    says.value = 'Select and copy by hand'
  }
}
</script>

<template>
  <button type="button" class="copy no-print" :aria-label="`Copy ${name}`" @click="copy">{{ says }}</button>
</template>

<style scoped>
.copy {
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: var(--ink);
  font-size: 12px;
  min-height: 24px;
  cursor: pointer;
}
</style>
