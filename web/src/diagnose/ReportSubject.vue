<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { useRoster } from '../stores/roster'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import FormField from '../ui/FormField.vue'
import ReportSections from './ReportSections.vue'
import type { Subject } from './reportSubject'

/** Fields of a dialog that say which report is meant: its kind, the instance or the group that it is of, its sections. */
const props = defineProps<{
  kinds: Schemas['KindOfReport'][]
  fault: (field: string) => string
}>()
const subject = defineModel<Subject>({ required: true })
const set = (change: Partial<Subject>) => (subject.value = { ...subject.value, ...change })
const roster = useRoster()
const chosen = computed(() => props.kinds.find((one) => one.kind === subject.value.kind))
const kinds = computed(() => props.kinds.map((one) => ({ value: one.kind, label: one.title })))
const instances = computed(() => [
  { value: undefined, label: 'of which instance?', disabled: true },
  ...roster.instances.map((one) => ({ value: one.instance_id, label: one.label })),
])
const groups = computed(() => {
  const named = [...new Set(roster.instances.flatMap((one) => (one.group ? [one.group] : [])))]
  return [
    { value: '', label: 'all instances' },
    ...named.sort().map((name) => ({ value: name, label: name })),
  ]
})
</script>

<template>
  <FormField label="Report" for="r-kind" :fault="fault('kind')">
    <ChoiceSelect
      id="r-kind"
      :model-value="subject.kind"
      :options="kinds"
      @update:model-value="(kind) => set({ kind, sections: undefined })"
    />
  </FormField>
  <FormField v-if="chosen?.is_of_many" label="Group" for="r-group" :fault="fault('group')">
    <ChoiceSelect
      id="r-group"
      :model-value="subject.group"
      :options="groups"
      @update:model-value="(group) => set({ group })"
    />
  </FormField>
  <FormField v-else label="Instance" for="r-instance" :fault="fault('instance_id')">
    <ChoiceSelect
      id="r-instance"
      :model-value="subject.instance"
      :options="instances"
      @update:model-value="(instance) => set({ instance })"
    />
  </FormField>
  <FormField v-if="chosen?.sections.length" label="Sections" :fault="fault('sections')">
    <ReportSections
      :model-value="subject.sections"
      :sections="chosen.sections"
      @update:model-value="(sections) => set({ sections })"
    />
  </FormField>
</template>
