<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { counted, number, percent } from '../format'
import { savedTime, VERDICTS } from './verdicts'

/** How often recommendations of a kind were right: in a sentence, and predicted against measured as a picture. */
const props = defineProps<{ record: Schemas['RecordFigures'] }>()
const SIZE = 132
const EDGE = 14
/** What is less than a second a day is drawn at the edge. */
const LEAST = 1
const scale = computed(() => {
  const all = props.record.outcomes.flatMap((one) => [
    one.predicted_seconds_per_day,
    one.measured_seconds_per_day,
  ])
  const least = Math.log(Math.max(LEAST, Math.min(...all.filter((value) => value >= LEAST), 1e9)) / 2)
  const most = Math.log(Math.max(...all, 2 * LEAST) * 2)
  return (value: number) =>
    EDGE + ((Math.log(Math.max(value, LEAST)) - least) / (most - least)) * (SIZE - 2 * EDGE)
})
const at = (value: number) => Math.min(SIZE - EDGE, Math.max(EDGE, scale.value(value)))
const judged = computed(() => props.record.right + props.record.wrong)
</script>

<template>
  <section class="record" data-test="record">
    <svg
      v-if="record.outcomes.length"
      :viewBox="`0 0 ${SIZE} ${SIZE}`"
      :width="SIZE"
      :height="SIZE"
      role="img"
      :aria-label="`${record.title}: predicted against measured savings`"
    >
      <path :d="`M${EDGE} ${EDGE - 6}V${SIZE - EDGE}H${SIZE - EDGE + 6}`" class="axis" />
      <path :d="`M${EDGE} ${SIZE - EDGE}L${SIZE - EDGE} ${EDGE}`" class="same" />
      <text :x="SIZE - EDGE" :y="SIZE - 2" text-anchor="end">predicted</text>
      <text :transform="`translate(10 ${EDGE - 6}) rotate(-90)`" text-anchor="end">measured</text>
      <RouterLink
        v-for="one in record.outcomes"
        :key="one.advice_id"
        :to="{ name: 'advice', params: { advice: one.advice_id }, query: $route.query }"
      >
        <circle
          :cx="at(one.predicted_seconds_per_day)"
          :cy="SIZE - at(one.measured_seconds_per_day)"
          r="4"
          :class="one.verdict"
        >
          <title>
            {{ VERDICTS[one.verdict] }}: {{ savedTime(one.predicted_seconds_per_day) }} predicted,
            {{ savedTime(one.measured_seconds_per_day) }} measured
          </title>
        </circle>
      </RouterLink>
    </svg>
    <p>
      <b>{{ record.title }}</b><br />
      <template v-if="judged">
        {{ record.right }} of {{ number(judged) }} right
        <template v-if="record.measured_share != null"
          ><br />
          measured: {{ percent(record.measured_share) }} of the prediction (median)</template
        >
      </template>
      <template v-else>none could be judged so far</template>
      <template v-if="record.undecided"
        ><br />
        <span class="muted">{{ counted(record.undecided, 'recommendation') }} undecided</span></template
      >
    </p>
  </section>
</template>

<style scoped>
.record {
  display: flex;
  gap: 12px;
  align-items: center;
}
.record p {
  margin: 0;
  max-width: 26ch;
}
text {
  font-size: 11px;
  fill: var(--muted);
}
.axis,
.same {
  fill: none;
  stroke: var(--muted);
}
.same {
  stroke-dasharray: 2 3;
}
circle {
  fill: var(--paper);
  stroke: var(--ink);
  stroke-width: 1.5;
}
circle.confirmed {
  fill: var(--plum);
  stroke: var(--plum);
}
circle.harmful {
  stroke: var(--warn);
}
</style>
