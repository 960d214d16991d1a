<script setup lang="ts">
import type { LocationQueryRaw } from 'vue-router'

/** A statement on one line, as a link to its family where it has one. */
defineProps<{
  family?: string | null | undefined
  text?: string | null | undefined
  /** What its page is to show; what this one shows when left out. */
  query?: LocationQueryRaw
}>()
</script>

<template>
  <RouterLink
    v-if="family"
    class="mono one-line"
    :to="{ name: 'family', params: { family }, query: query ?? $route.query }"
    :title="text ?? undefined"
    >{{ text }}</RouterLink
  >
  <span v-else class="mono one-line" :title="text ?? undefined">{{ text }}</span>
</template>
