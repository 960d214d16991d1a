<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'

/** Health by shape and word: a flat dash, an open diamond, a filled diamond, empty brackets. */
const props = defineProps<{ health: Schemas['Health'] }>()
const WORDS: Record<Schemas['Health'], string> = {
  quiet: 'quiet',
  look: 'look',
  act: 'act',
  no_data: 'no data',
}
const word = computed(() => WORDS[props.health])
</script>

<template>
  <span class="health" :class="health">
    <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden="true">
      <path v-if="health === 'quiet'" d="M2 7H12" stroke="currentColor" stroke-width="2" />
      <path
        v-else-if="health === 'look'"
        d="M7 1.5L12.5 7L7 12.5L1.5 7Z"
        fill="none"
        stroke="currentColor"
        stroke-width="1.6"
      />
      <path v-else-if="health === 'act'" d="M7 .8L13.2 7L7 13.2L.8 7Z" fill="currentColor" />
      <path v-else d="M5 2H2V12H5M9 2H12V12H9" fill="none" stroke="currentColor" stroke-width="1.5" />
    </svg>
    {{ word }}
  </span>
</template>

<style scoped>
.health {
  display: inline-flex;
  align-items: baseline;
  gap: 5px;
  white-space: nowrap;
}
.act,
.look {
  color: var(--plum);
  font-weight: 700;
}
.quiet,
.no_data {
  color: var(--muted);
}
svg {
  position: relative;
  top: 2px;
  flex: none;
}
</style>
