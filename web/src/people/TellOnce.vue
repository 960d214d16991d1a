<script setup lang="ts">
import { ref } from 'vue'

/** A secret that is told this once, with a way to copy it. */
const props = defineProps<{ what: string; secret: string }>()
defineEmits<{ close: [] }>()
const copied = ref(false)
async function copy(): Promise<void> {
  await navigator.clipboard.writeText(props.secret)
  copied.value = true
}
</script>

<template>
  <div class="sheet once" role="status" data-test="told-once">
    <p>
      {{ what }}: <code>{{ secret }}</code>
    </p>
    <p class="muted">It is shown only once: Hurnix keeps only its hash. Copy it now.</p>
    <button type="button" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</button>
    <button type="button" @click="$emit('close')">Close</button>
  </div>
</template>

<style scoped>
.once {
  border-left: 4px solid var(--plum);
}
code {
  font-size: 15px;
  user-select: all;
}
button {
  font: inherit;
  border: 1px solid var(--plum);
  background: none;
  color: var(--plum);
  cursor: pointer;
  padding: 2px 10px;
  margin-right: 8px;
}
</style>
