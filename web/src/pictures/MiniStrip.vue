<script setup lang="ts">
import { computed } from 'vue'

/** A small strip without labels: cells from left to right, hatched where nothing is known. */
const props = defineProps<{ cells: readonly (number | null)[]; height?: number; label: string }>()
const height = computed(() => props.height ?? 18)
const most = computed(() => Math.max(...props.cells.map((cell) => cell ?? 0), 0.001))
</script>

<template>
  <svg
    class="mini"
    :viewBox="`0 0 ${Math.max(cells.length, 1)} ${height}`"
    :height="height"
    preserveAspectRatio="none"
    role="img"
    :aria-label="label"
  >
    <template v-for="(cell, i) in cells" :key="i">
      <rect v-if="cell === null" :x="i" y="0" width="1.02" :height="height" fill="var(--sunk)" />
      <rect
        v-else-if="cell > 0"
        :x="i"
        :y="height - Math.max(1, (cell / most) * height)"
        width="1.02"
        :height="Math.max(1, (cell / most) * height)"
        fill="var(--plum)"
      />
    </template>
    <rect x="0" :y="height - 0.5" :width="cells.length" height="0.5" fill="var(--rule)" />
  </svg>
</template>

<style scoped>
.mini {
  width: 100%;
  display: block;
}
</style>
