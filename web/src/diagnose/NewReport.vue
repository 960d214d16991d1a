<script setup lang="ts">
import { Input } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { typedTime } from '../composables/typedTime'
import { useAction } from '../composables/useAction'
import { lengthSeconds } from '../composables/useWindow'
import FormDialog from '../ui/FormDialog.vue'
import FormField from '../ui/FormField.vue'
import ReportSubject from './ReportSubject.vue'
import { asBody, FRESH_SUBJECT } from './reportSubject'

/** Makes a report and keeps it. */
defineProps<{ open: boolean; kinds: Schemas['KindOfReport'][] }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const form = reactive({ subject: { ...FRESH_SUBJECT }, period: 'last 7d' })
const notRead = ref('')
const making = useAction()
/** The period that was typed, or what is wrong with it. */
function period(): { from: string; to: string } | string {
  const now = new Date()
  const typed = typedTime(form.period, now)
  if (typeof typed === 'string') return typed
  if ('last' in typed) {
    const from = new Date(now.getTime() - (lengthSeconds(typed.last) ?? 0) * 1000)
    return { from: from.toISOString(), to: now.toISOString() }
  }
  if ('from' in typed) return { from: typed.from.toISOString(), to: typed.to.toISOString() }
  return 'Give the period that the report is of, such as last 7d, yesterday, or 14:00–15:00.'
}
async function make(): Promise<void> {
  const span = period()
  notRead.value = typeof span === 'string' ? span : ''
  if (typeof span === 'string') return
  await making.run('make', async () => {
    const kept = await answer(api.POST('/api/v1/reports', { body: { ...asBody(form.subject), ...span } }))
    emit('close')
    await router.push({ name: 'kept-report', params: { report: kept.report_id } })
  })
}
</script>

<template>
  <FormDialog
    :open="open"
    title="Create report"
    :values="form"
    submit="Create"
    :busy="making.busy.value !== ''"
    :problem="making.problem.value"
    @submit="make"
    @close="emit('close')"
  >
    <ReportSubject
      v-model="form.subject"
      :kinds="kinds.filter((one) => one.kind !== 'statement' && !one.is_between_snapshots)"
      :fault="making.fault.value"
    />
    <FormField
      v-if="form.subject.kind !== 'first_look'"
      label="Period"
      for="r-period"
      hint="such as last 7d, yesterday, 14:00–15:00"
      :fault="notRead || making.fault.value('from') || making.fault.value('to')"
    >
      <Input id="r-period" v-model:value="form.period" />
    </FormField>
  </FormDialog>
</template>
