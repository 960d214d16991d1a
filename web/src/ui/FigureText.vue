<script setup lang="ts">
/** A figure with its unit; on hover it tells from where it is and for which time. */
defineProps<{ value: string; source: string; window?: string }>()
</script>

<template>
  <span class="figure" tabindex="0" :title="[source, window].filter(Boolean).join('; ')">{{ value }}</span>
</template>

<style scoped>
.figure {
  white-space: nowrap;
  text-decoration: underline dotted var(--rule);
  text-underline-offset: 3px;
}
</style>
