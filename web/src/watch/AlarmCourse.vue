<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { inUnit } from '../diagnose/measured'
import { clock, counted } from '../format'
import PastStrip from '../pictures/PastStrip.vue'

/** The figures that show the trouble of an alarm, before it began and since. */
const props = defineProps<{ courses: readonly Schemas['AlarmCourse'][] }>()
const drawn = computed(() =>
  props.courses.map((course) => {
    const values = course.cells.map((cell) => cell.value)
    const told = (value: number) => inUnit(value, course.unit)
    const name = `${course.title} ${course.object}`.trim()
    const ends = `${told(Math.min(...values))} to ${told(Math.max(...values))}`
    const threshold = course.threshold == null ? '' : `; dashed: the threshold, ${told(course.threshold)}`
    return { course, name, ends, threshold }
  }),
)
const legend = computed(() => {
  const days = props.courses.find((course) => course.days != null)?.days
  const usual = 'Between the thin lines: usual range for the hour of the week, learnt from'
  return [
    'Inked: while the alarm stood.',
    ...(days == null ? [] : [`${usual} ${counted(Math.round(days), 'day')}.`]),
  ].join(' ')
})
</script>

<template>
  <figure v-for="{ course, name, ends, threshold } in drawn" :key="name">
    <figcaption>
      {{ name }}: <span class="muted">{{ ends }}{{ threshold }}</span>
    </figcaption>
    <PastStrip
      :cells="course.cells"
      :from="course.span.from"
      :to="course.span.to"
      :value="course.threshold"
      :height="64"
      :label="`${name}, ${ends}`"
    />
    <div class="ends muted">
      <span>{{ clock(course.span.from, new Date(), false) }}</span><span>{{
        clock(course.span.to, new Date(), false)
      }}</span>
    </div>
  </figure>
  <p class="muted">{{ legend }}</p>
</template>

<style scoped>
figure {
  margin: 0 0 8px;
}
figcaption {
  margin-bottom: 4px;
}
.ends {
  display: flex;
  justify-content: space-between;
  font-size: 12.5px;
}
p {
  margin: 0;
}
</style>
