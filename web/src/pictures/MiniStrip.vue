<script setup lang="ts">
import { computed } from 'vue'
import { fullOf, usualPath, within } from './usual'

/** A small strip without labels: cells from left to right, hatched where nothing is known, before what is usual. */
const props = defineProps<{
  cells: readonly (number | null)[]
  /** Ends of what is usual in each cell; empty where nothing was learnt yet. */
  low?: readonly number[]
  high?: readonly number[]
  height?: number
  label: string
}>()
const height = computed(() => props.height ?? 18)
const most = computed(() => fullOf(props.cells, props.high ?? []))
const up = computed(() => within(height.value, most.value))
/** A column of a cell as a part of a path; all of one colour are one path, since a page has many strips. */
const column = (at: number, from: number) => `M${at} ${height.value}h1.02V${from.toFixed(1)}h-1.02z`
const known = computed(() =>
  props.cells
    .map((cell, at) => (cell ? column(at, Math.min(height.value - 1, up.value(cell))) : ''))
    .join(''),
)
const unknown = computed(() => props.cells.map((cell, at) => (cell === null ? column(at, 0) : '')).join(''))
const usual = computed(() =>
  usualPath(
    (props.low ?? []).map((low, x) => ({ x, width: 1.02, low, high: props.high?.[x] ?? low })),
    up.value,
  ),
)
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
    <path v-if="unknown" :d="unknown" fill="var(--sunk)" />
    <path v-if="usual" :d="usual" fill="var(--usual)" />
    <path v-if="known" :d="known" fill="var(--plum)" />
    <rect x="0" :y="height - 0.5" :width="cells.length" height="0.5" fill="var(--rule)" />
  </svg>
</template>

<style scoped>
.mini {
  width: 100%;
  display: block;
}
</style>
