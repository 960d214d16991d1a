<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { between, counted, seconds, source } from '../format'
import StripStack, { type StripRow } from '../pictures/StripStack.vue'
import { useHistory } from '../stores/history'

/** Figures over time as strips on one axis, each on a scale of its own, with what they were computed from. */
const props = defineProps<{
  data: Schemas['Courses']
  rows: StripRow[]
  window: { from: Date; to: Date }
  /** First and last chosen cell. */
  chosen: [number, number] | null
  /** Nothing is narrowed by a column: they can only be read. */
  readOnly?: boolean
}>()
const emit = defineEmits<{ choose: [cells: [number, number] | null]; press: [key: string] }>()
const history = useHistory()
const starts = computed(() => props.data.starts.map((start) => new Date(start)))
const learnt = computed(() => {
  const most = Math.max(0, ...props.data.courses.map((course) => course.days ?? 0))
  return most
    ? `Shaded: usual range for the hour of the week, learnt from up to ${counted(Math.round(most), 'day')}.`
    : 'There is no usual range yet: it is learnt once a day of figures is there.'
})
</script>

<template>
  <StripStack
    :starts="starts"
    :cell-seconds="data.cell_seconds"
    :rows="rows"
    :figure-heads="['mean', 'least', 'most']"
    :chosen="chosen"
    :markers="history.markers"
    :label-width="250"
    :read-only="readOnly"
    :figures-of="`${between(window)}, ${source(data.detail)}`"
    @choose="(cells) => emit('choose', cells)"
    @press="(key) => emit('press', key)"
  />
  <p class="muted foot">
    Each strip has a scale of its own. One cell is {{ seconds(data.cell_seconds) }};
    {{ source(data.detail) }}. Hatched: not read. {{ learnt }}
  </p>
</template>

<style scoped>
.foot {
  font-size: 12.5px;
  margin: 2px 0 0;
}
</style>
