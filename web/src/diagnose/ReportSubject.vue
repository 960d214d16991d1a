<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { useRoster } from '../stores/roster'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import FormField from '../ui/FormField.vue'

/** Fields of a dialog that say which report is meant: its kind, and the instance or the group that it is of. */
const props = defineProps<{
  kinds: Schemas['KindOfReport'][]
  fault: (field: string) => string
}>()
const kind = defineModel<Schemas['ReportKind']>('kind', { required: true })
const instance = defineModel<number | undefined>('instance', { required: true })
const group = defineModel<string>('group', { required: true })
const roster = useRoster()
const isOfMany = computed(() => props.kinds.find((one) => one.kind === kind.value)?.is_of_many ?? false)
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
    <ChoiceSelect id="r-kind" v-model="kind" :options="kinds" />
  </FormField>
  <FormField v-if="isOfMany" label="Group" for="r-group" :fault="fault('group')">
    <ChoiceSelect id="r-group" v-model="group" :options="groups" />
  </FormField>
  <FormField v-else label="Instance" for="r-instance" :fault="fault('instance_id')">
    <ChoiceSelect id="r-instance" v-model="instance" :options="instances" />
  </FormField>
</template>
