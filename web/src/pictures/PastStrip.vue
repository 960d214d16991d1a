<script lang="ts">
/** A figure in one cell of time. */
export interface PastCell {
  at: string
  value: number
  /** Whether an alarm would have been open. */
  is_raised: boolean
}
</script>

<script setup lang="ts">
import { computed } from 'vue'

/** The past of one figure against a value: what would have raised an alarm is inked, the rest is pale. */
const props = defineProps<{
  cells: readonly PastCell[]
  from: string
  to: string
  value: number
  /** What it shows, in words. */
  label: string
}>()
const HEIGHT = 40
const WIDTH = 1000
const most = computed(() => Math.max(props.value, ...props.cells.map((cell) => cell.value), 1e-9) * 1.05)
const across = (at: string) => {
  const [from, to] = [Date.parse(props.from), Date.parse(props.to)]
  return ((Date.parse(at) - from) / Math.max(to - from, 1)) * WIDTH
}
const up = (value: number) => HEIGHT - (Math.max(value, 0) / most.value) * HEIGHT
/** Columns as one path: a page has many. A cell is as wide as the closest two are apart. */
const width = computed(() => {
  const places = props.cells.map((cell) => across(cell.at))
  const steps = places.slice(1).map((place, i) => place - places[i]!)
  return Math.max(1, Math.min(...steps, WIDTH / 40))
})
const columns = (isRaised: boolean) =>
  props.cells
    .filter((cell) => cell.is_raised === isRaised)
    .map(
      (cell) =>
        `M${across(cell.at).toFixed(1)} ${HEIGHT}h${width.value.toFixed(1)}V${up(cell.value).toFixed(1)}h-${width.value.toFixed(1)}z`,
    )
    .join('')
</script>

<template>
  <svg
    class="past"
    :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
    :height="HEIGHT"
    preserveAspectRatio="none"
    role="img"
    :aria-label="label"
  >
    <rect x="0" y="0" :width="WIDTH" :height="HEIGHT" fill="var(--sunk)" />
    <path :d="columns(false)" fill="var(--hatch)" />
    <path :d="columns(true)" fill="var(--plum)" />
    <path
      :d="`M0 ${up(value)}H${WIDTH}`"
      stroke="var(--ink)"
      stroke-dasharray="5 3"
      vector-effect="non-scaling-stroke"
    />
  </svg>
</template>

<style scoped>
.past {
  width: 100%;
  display: block;
}
</style>
