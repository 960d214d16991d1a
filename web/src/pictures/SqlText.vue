<script setup lang="ts">
import { ref } from 'vue'

/** A statement in full, with a button that copies it. Text from a watched server is shown as text. */
const props = defineProps<{ text: string; name: string }>()
const copied = ref(false)
const blocked = ref(false)
async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(props.text)
    copied.value = true
    setTimeout(() => (copied.value = false), 1500)
  } catch {
    blocked.value = true
  }
}
</script>

<template>
  <div class="sql">
    <pre>{{ text }}</pre>
    <button type="button" class="no-print" :aria-label="`Copy ${name}`" @click="copy">
      {{ copied ? 'copied' : blocked ? 'select and copy by hand' : 'copy' }}
    </button>
  </div>
</template>

<style scoped>
.sql {
  position: relative;
  background: var(--sunk);
  border-left: 3px solid var(--plum);
}
pre {
  margin: 0;
  padding: 8px 60px 8px 10px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 320px;
  overflow: auto;
}
button {
  position: absolute;
  top: 4px;
  right: 4px;
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: var(--ink);
  font-size: 12px;
  cursor: pointer;
}
</style>
