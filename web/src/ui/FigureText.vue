<script setup lang="ts">
/** A figure with its unit; what it is, of which window and from where is said where it is pointed at. */
defineProps<{ text: string; of: string; window?: string; source?: string }>()
</script>

<template>
  <span class="figure" :title="[`${of}: ${text}`, window, source].filter(Boolean).join('; ')">{{
    text
  }}</span>
</template>

<style scoped>
.figure {
  font-variant-numeric: tabular-nums;
  white-space: nowrap;
}
</style>
