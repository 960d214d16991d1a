<script lang="ts">
/** A figure in one cell of time. */
export interface PastCell {
  at: string
  value: number
  /** Whether an alarm stood, or would have. */
  is_raised: boolean
  /** Ends of what is usual then; nothing where that is not drawn or not known. */
  low?: number | null
  high?: number | null
}
</script>

<script setup lang="ts">
import { computed } from 'vue'
import { usualPath, within } from './usual'

/** The past of one figure against a value and what is usual: while an alarm stood it is inked, the rest is pale. */
const props = defineProps<{
  cells: readonly PastCell[]
  from: string
  to: string
  value?: number | null
  height?: number
  /** What it shows, in words. */
  label: string
}>()
const WIDTH = 1000
const height = computed(() => props.height ?? 40)
const most = computed(
  () =>
    Math.max(props.value ?? 0, ...props.cells.flatMap((cell) => [cell.value, cell.high ?? 0]), 1e-9) * 1.05,
)
const across = (at: string) => {
  const [from, to] = [Date.parse(props.from), Date.parse(props.to)]
  return ((Date.parse(at) - from) / Math.max(to - from, 1)) * WIDTH
}
const up = computed(() => within(height.value, most.value))
/** Columns as one path: a page has many. A cell is as wide as the closest two are apart. */
const width = computed(() => {
  const places = props.cells.map((cell) => across(cell.at))
  const steps = places.slice(1).map((place, i) => place - places[i]!)
  return Math.max(1, Math.min(...steps, WIDTH / 8))
})
const columns = (isRaised: boolean) =>
  props.cells
    .filter((cell) => cell.is_raised === isRaised)
    .map(
      (cell) =>
        `M${across(cell.at).toFixed(1)} ${height.value}h${width.value.toFixed(1)}V${up.value(cell.value).toFixed(1)}h-${width.value.toFixed(1)}z`,
    )
    .join('')
const known = computed(() =>
  props.cells
    .filter((cell) => cell.low != null && cell.high != null)
    .map((cell) => ({ x: across(cell.at), width: width.value, low: cell.low ?? 0, high: cell.high ?? 0 })),
)
const usual = computed(() => usualPath(known.value, up.value))
/** Its ends, before the columns that may hide it. */
const ends = computed(() =>
  known.value
    .flatMap(({ x, width, low, high }) =>
      [low, high].map((end) => `M${x.toFixed(1)} ${up.value(end).toFixed(1)}h${width.toFixed(1)}`),
    )
    .join(''),
)
</script>

<template>
  <svg
    class="past"
    :viewBox="`0 0 ${WIDTH} ${height}`"
    :height="height"
    preserveAspectRatio="none"
    role="img"
    :aria-label="label"
  >
    <rect v-if="!usual" x="0" y="0" :width="WIDTH" :height="height" fill="var(--sunk)" />
    <path v-if="usual" :d="usual" fill="var(--usual)" />
    <path :d="columns(false)" fill="var(--hatch)" />
    <path :d="columns(true)" fill="var(--plum)" />
    <path v-if="usual" :d="ends" stroke="var(--muted)" vector-effect="non-scaling-stroke" />
    <path
      v-if="value != null"
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
