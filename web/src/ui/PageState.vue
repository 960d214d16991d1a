<script setup lang="ts">
import type { Loaded } from '../composables/useLoaded'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'

/**
 * How far the figures of a page are: still loading (drawn after 300 ms, so that a quick answer does not flicker), or
 * failed, with what to do; of which time the figures are that are still shown; which of them are missing; or why there
 * are none, and what to do then.
 */
defineProps<{
  loaded: Loaded<unknown>
  /** What is missing of what is shown, as a sentence. */
  partial?: string
  /** Why there is nothing to show, as a sentence. */
  empty?: string
  /** What to do then. */
  next?: string
}>()
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
  <div v-else-if="empty" class="sheet" role="status">
    <p class="empty">{{ empty }}</p>
    <p v-if="next" class="empty muted">{{ next }}</p>
  </div>
  <p v-else-if="partial" class="partial" role="status">{{ partial }}</p>
</template>

<style scoped>
.stale {
  background: var(--warn-wash);
  color: var(--warn);
  padding: 4px 10px;
}
.partial {
  margin: 0 0 8px;
  padding: 4px 10px;
  background: var(--sunk);
}
.empty {
  margin: 4px 0;
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
