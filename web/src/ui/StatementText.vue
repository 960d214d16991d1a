<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import CopyButton from './CopyButton.vue'
import { highlighted, laidOut, type Piece } from './statementText'

/**
 * A statement in full: highlighted, folded where it is long, formatted when asked, and copied as it was given. Text
 * from a watched server is shown as text.
 */
const props = defineProps<{ text: string; name: string }>()
/** Longer ones are folded. */
const MOST_LINES = 24
const isFormatted = ref(false)
const isOpen = ref(false)
const pieces = ref<Piece[]>([])
const problem = ref('')
watch(
  () => [props.text, isFormatted.value] as const,
  async ([text, formatted]) => {
    pieces.value = [{ text }]
    problem.value = ''
    const shown = formatted ? await laidOut(text) : text
    if (shown === null) problem.value = 'This statement cannot be formatted; it is shown as it was run.'
    const found = await highlighted(shown ?? text)
    if (text === props.text && formatted === isFormatted.value) pieces.value = found
  },
  { immediate: true },
)
const lines = computed(() => pieces.value.reduce((sum, piece) => sum + piece.text.split('\n').length - 1, 1))
const isLong = computed(() => lines.value > MOST_LINES || props.text.length > 4000)
</script>

<template>
  <div class="statement">
    <pre
      :class="{ folded: isLong && !isOpen }"
    ><span v-for="(piece, i) in pieces" :key="i" :class="piece.kind">{{ piece.text }}</span></pre>
    <p v-if="problem" class="muted">{{ problem }}</p>
    <div class="tools no-print">
      <button v-if="isLong" type="button" :aria-expanded="isOpen" @click="isOpen = !isOpen">
        {{ isOpen ? 'Fold' : 'Unfold' }}
      </button>
      <button type="button" :aria-pressed="isFormatted" @click="isFormatted = !isFormatted">Format</button>
      <CopyButton :text="text" :name="name" />
    </div>
  </div>
</template>

<style scoped>
.statement {
  position: relative;
  background: var(--sunk);
  border-left: 3px solid var(--plum);
  padding-top: 26px;
}
pre {
  margin: 0;
  padding: 4px 10px 8px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.folded {
  max-height: 320px;
  overflow: auto;
}
p {
  margin: 0;
  padding: 0 10px 6px;
  font-size: 12.5px;
}
.tools {
  position: absolute;
  top: 3px;
  right: 4px;
  display: flex;
  gap: 4px;
}
.tools > button {
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: var(--ink);
  font-size: 12px;
  min-height: 24px;
  cursor: pointer;
}
.tools > button[aria-pressed='true'] {
  background: var(--plum-wash);
}
.keyword {
  font-weight: 700;
}
.comment {
  color: var(--muted);
}
.string,
.number {
  color: var(--plum);
}
@media print {
  .folded {
    max-height: none;
  }
}
</style>
