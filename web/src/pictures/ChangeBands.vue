<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { clock, milliseconds } from '../format'

/** Time per call before and after the onset: two bands with their spread, on a log scale. */
const props = defineProps<{ change: Schemas['Change'] }>()

const WIDTH = 420
const HEIGHT = 110
const MIDDLE = 190
const sides = computed(() => [
  { side: props.change.before, from: 60, to: MIDDLE, name: 'before' },
  { side: props.change.after, from: MIDDLE, to: WIDTH - 76, name: 'since' },
])
const scale = computed(() => {
  const all = sides.value.flatMap(({ side }) => [side.quarter, side.three_quarters, side.typical])
  const low = Math.log(Math.min(...all)) - 0.4
  const high = Math.log(Math.max(...all)) + 0.4
  return (ms: number) => 18 + (1 - (Math.log(ms) - low) / (high - low)) * (HEIGHT - 40)
})
</script>

<template>
  <svg
    :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
    :width="WIDTH"
    role="img"
    :aria-label="`Time per call: ${milliseconds(change.before.typical)} before, ${milliseconds(change.after.typical)} since`"
    class="bands"
  >
    <g v-for="{ side, from, to, name } in sides" :key="name">
      <rect
        :x="from"
        :y="scale(side.three_quarters) - 2"
        :width="to - from"
        :height="scale(side.quarter) - scale(side.three_quarters) + 4"
        :fill="name === 'since' ? 'var(--plum)' : 'var(--muted)'"
        opacity="0.28"
      />
      <line
        :x1="from"
        :x2="to"
        :y1="scale(side.typical)"
        :y2="scale(side.typical)"
        :stroke="name === 'since' ? 'var(--plum)' : 'var(--muted)'"
        stroke-width="2.5"
      />
      <text
        :x="name === 'before' ? from - 6 : to + 6"
        :y="scale(side.typical) + 4"
        :text-anchor="name === 'before' ? 'end' : 'start'"
      >
        {{ milliseconds(side.typical) }}
      </text>
    </g>
    <line :x1="MIDDLE" :x2="MIDDLE" y1="14" :y2="HEIGHT - 18" stroke="var(--ink)" stroke-dasharray="3 3" />
    <text :x="MIDDLE" y="10" text-anchor="middle">onset {{ clock(change.onset, new Date()) }}</text>
    <text x="62" :y="HEIGHT - 4" class="note">before</text>
    <text :x="MIDDLE + 4" :y="HEIGHT - 4" class="note">since</text>
  </svg>
</template>

<style scoped>
.bands {
  max-width: 100%;
  height: auto;
}
text {
  font-size: 12.5px;
  fill: var(--ink);
}
.note {
  fill: var(--muted);
}
</style>
