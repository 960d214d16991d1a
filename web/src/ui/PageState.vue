<script setup lang="ts">
import type { Loaded } from '../composables/useLoaded'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'

/**
 * How far the figures of a page are: still loading (drawn after 300 ms, so that a quick answer does not flicker), or
 * failed, with what to do; and of which time the figures are that are still shown.
 */
defineProps<{ loaded: Loaded<unknown> }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <template v-if="loaded.state === 'failed'">
    <p v-if="loaded.data !== undefined" class="stale" role="status">
      These figures are of {{ clock(loaded.at, new Date()) }}; newer ones could not be loaded.
    </p>
    <ProblemNote :problem="loaded.problem" @retry="$emit('retry')" />
  </template>
  <div v-else-if="loaded.state === 'loading'" class="sheet waits" role="status">
    <span class="spoken">Loading</span>
    <div v-for="line in 4" :key="line" class="line" :style="{ width: `${92 - line * 13}%` }" />
  </div>
</template>

<style scoped>
.stale {
  background: var(--warn-wash);
  color: var(--warn);
  padding: 4px 10px;
}
.waits {
  animation: appear 0s 300ms both;
}
@keyframes appear {
  from {
    visibility: hidden;
  }
  to {
    visibility: visible;
  }
}
.line {
  height: 12px;
  margin: 8px 0;
  background: var(--sunk);
}
.spoken {
  position: absolute;
  clip-path: inset(50%);
}
</style>
