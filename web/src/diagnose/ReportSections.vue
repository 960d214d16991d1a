<script setup lang="ts">
import { Checkbox } from 'ant-design-vue'
import type { Schemas } from '../api/client'

/** Chooses sections of a report. */
const props = defineProps<{ sections: Schemas['KindOfReport']['sections'] }>()
/** Names of those that are chosen, with commas between them; nothing where all are. */
const chosen = defineModel<string | undefined>({ required: true })
const isChosen = (section: string) => !chosen.value || chosen.value.split(',').includes(section)
function toggle(section: string): void {
  const all = props.sections.map((one) => one.section)
  const kept = all.filter((one) => (one === section ? !isChosen(one) : isChosen(one)))
  // The last one stays: a report of nothing is none.
  if (kept.length > 0) chosen.value = kept.length === all.length ? undefined : kept.join(',')
}
</script>

<template>
  <span role="group" aria-label="Sections">
    <Checkbox
      v-for="one in sections"
      :key="one.section"
      :checked="isChosen(one.section)"
      @change="toggle(one.section)"
      >{{ one.title }}</Checkbox
    >
  </span>
</template>
