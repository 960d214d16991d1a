<script setup lang="ts">
import { Input, InputNumber } from 'ant-design-vue'
import { computed, reactive, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { zone } from '../format'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import FormDialog from '../ui/FormDialog.vue'
import FormField from '../ui/FormField.vue'
import { dayName, WEEKDAYS } from '../weekdays'
import ReportSubject from './ReportSubject.vue'
import { asBody, FRESH_SUBJECT } from './reportSubject'

/** Has a report made by itself each day, week or month. */
const props = defineProps<{
  open: boolean
  changed: Schemas['ScheduleFigures'] | null
  kinds: Schemas['KindOfReport'][]
}>()
const emit = defineEmits<{ close: []; saved: [] }>()
const FRESH = {
  subject: { ...FRESH_SUBJECT },
  every: 'week' as Schemas['Every'],
  weekday: 'monday',
  at: '07:00',
  time_zone: zone(),
  most_kept: 30,
}
const EVERY: { value: Schemas['Every']; label: string }[] = [
  { value: 'day', label: 'every day' },
  { value: 'week', label: 'every week' },
  { value: 'month', label: 'on the first of each month' },
]
const form = reactive({ ...FRESH })
watch(
  () => props.open,
  () => {
    const { kind, instance_id, group, sections, weekday, every, at, time_zone, most_kept } =
      props.changed ?? {}
    Object.assign(form, FRESH, props.changed && { every, at, time_zone, most_kept })
    if (kind)
      form.subject = {
        kind,
        instance: instance_id ?? undefined,
        group: group ?? '',
        sections: sections ?? undefined,
      }
    form.weekday = weekday ?? FRESH.weekday
  },
)
const schedulable = computed(() => props.kinds.filter((one) => one.may_be_scheduled))
const saving = useAction()
async function save(): Promise<void> {
  const body = {
    ...asBody(form.subject),
    every: form.every,
    weekday: form.every === 'week' ? form.weekday : undefined,
    at: form.at,
    time_zone: form.time_zone,
    most_kept: form.most_kept,
  }
  const known = props.changed
  const saved = await saving.run('save', () =>
    answer(
      known
        ? api.PUT('/api/v1/report-schedules/{schedule_id}', {
            params: { path: { schedule_id: known.schedule_id } },
            body,
          })
        : api.POST('/api/v1/report-schedules', { body }),
    ),
  )
  if (!saved) return
  emit('saved')
  emit('close')
}
</script>

<template>
  <FormDialog
    :open="open"
    :title="changed ? 'Edit report schedule' : 'Create report schedule'"
    :values="form"
    :submit="changed ? 'Save' : 'Create'"
    :busy="saving.busy.value !== ''"
    :problem="saving.problem.value"
    @submit="save"
    @close="emit('close')"
  >
    <ReportSubject v-model="form.subject" :kinds="schedulable" :fault="saving.fault.value" />
    <FormField label="Made" for="s-every" :fault="saving.fault.value('every')">
      <ChoiceSelect id="s-every" v-model="form.every" :options="EVERY" />
    </FormField>
    <FormField v-if="form.every === 'week'" label="On" for="s-day" :fault="saving.fault.value('weekday')">
      <ChoiceSelect
        id="s-day"
        v-model="form.weekday"
        :options="WEEKDAYS.map((value) => ({ value, label: dayName(value) }))"
      />
    </FormField>
    <FormField
      label="At"
      for="s-at"
      hint="it is of the time since the one before"
      :fault="saving.fault.value('at')"
    >
      <Input id="s-at" v-model:value="form.at" placeholder="07:00" />
    </FormField>
    <FormField label="Time zone" for="s-zone" :fault="saving.fault.value('time_zone')">
      <Input id="s-zone" v-model:value="form.time_zone" />
    </FormField>
    <FormField
      label="Kept"
      for="s-kept"
      hint="reports; those with words stay in any case"
      :fault="saving.fault.value('most_kept')"
    >
      <InputNumber
        id="s-kept"
        :value="form.most_kept"
        :min="1"
        :max="1000"
        @change="(most) => (form.most_kept = Number(most))"
      />
    </FormField>
  </FormDialog>
</template>
