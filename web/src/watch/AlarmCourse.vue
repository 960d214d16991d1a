<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { inUnit } from '../diagnose/measured'
import { clock, counted } from '../format'
import PastStrip from '../pictures/PastStrip.vue'

/** A figure that shows the trouble of an alarm, before it began and since. */
const props = defineProps<{ course: Schemas['AlarmCourse'] }>()
const told = (value: number) => inUnit(value, props.course.unit)
const most = computed(() => Math.max(...props.course.cells.map((cell) => cell.value)))
const least = computed(() => Math.min(...props.course.cells.map((cell) => cell.value)))
const name = computed(() => `${props.course.title} ${props.course.object}`.trim())
const legend = computed(() => {
  const { days, threshold } = props.course
  const parts = ['Dark: while the alarm stood.']
  if (days != null)
    parts.push(
      `Shaded: usual range for the hour of the week, learnt from ${counted(Math.round(days), 'day')}.`,
    )
  if (threshold != null) parts.push(`Dashed: the threshold, ${told(threshold)}.`)
  return parts.join(' ')
})
</script>

<template>
  <figure>
    <figcaption>
      {{ name }}: <span class="muted">{{ told(least) }} to {{ told(most) }}</span>
    </figcaption>
    <PastStrip
      :cells="course.cells"
      :from="course.span.from"
      :to="course.span.to"
      :value="course.threshold"
      :height="64"
      :label="`${name}, ${told(least)} to ${told(most)}`"
    />
    <div class="ends muted">
      <span>{{ clock(course.span.from, new Date(), false) }}</span><span>{{ legend }}</span
      ><span>{{ clock(course.span.to, new Date(), false) }}</span>
    </div>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
}
figcaption {
  margin-bottom: 4px;
}
.ends {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  font-size: 12.5px;
  margin-top: 2px;
}
</style>
