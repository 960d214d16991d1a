<script setup lang="ts">
import { Button, Textarea } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import CopyButton from '../ui/CopyButton.vue'
import PageState from '../ui/PageState.vue'
import { useUnsaved } from '../ui/useUnsaved'
import ReportForms from './ReportForms.vue'
import ReportView from './ReportView.vue'

/** One kept report, with room for people's own words. Its address is its link. */
const route = useRoute()
const router = useRouter()
const report_id = computed(() => String(route.params.report))
const params = computed(() => ({ path: { report_id: report_id.value } }))
const {
  loaded,
  data: report,
  reload,
} = useLoaded(
  report_id,
  () => 0,
  () => answer(api.GET('/api/v1/reports/{report_id}', { params: params.value })),
)
const person = useSession()
const mayWrite = computed(() => person.current?.role !== undefined && person.current.role !== 'reader')
const writes = ref(false)
const words = ref('')
watch(report, (known) => (words.value = known?.words ?? ''))
const isChanged = computed(() => writes.value && words.value.trimEnd() !== (report.value?.words ?? ''))
useUnsaved(() => isChanged.value)
const saving = useAction()
async function save(): Promise<void> {
  const body = { words: words.value }
  const saved = await saving.run('save', () =>
    answer(api.PUT('/api/v1/reports/{report_id}/words', { params: params.value, body })),
  )
  if (!saved) return
  await reload()
  writes.value = false
}
function cancel(): void {
  words.value = report.value?.words ?? ''
  writes.value = false
}
const removing = useAction()
async function remove(): Promise<void> {
  const gone = await removing.run('remove', () =>
    answer(api.DELETE('/api/v1/reports/{report_id}', { params: params.value })),
  )
  if (gone) await router.push({ name: 'kept-reports' })
}
const link = computed(() => globalThis.location.href)
</script>

<template>
  <div class="page-head no-print">
    <RouterLink :to="{ name: 'kept-reports' }">All kept reports</RouterLink>
    <span class="muted">Kept as it was made; only its words can be changed</span>
    <span v-if="report" class="acts">
      <span>Link <CopyButton :text="link" name="the link" /></span>
      <Button v-if="mayWrite && !writes" size="small" @click="writes = true">{{
        report.words ? 'Edit the words' : 'Add words of your own'
      }}</Button>
      <ConfirmButton
        v-if="mayWrite"
        lost="The report is deleted, with what people wrote to it. Its link leads nowhere from then on."
        action="Delete"
        @confirm="remove"
      />
      <ReportForms :address="`/api/v1/reports/${report_id}`" />
    </span>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="remove" />
  <form v-if="report && writes" class="sheet no-print" data-test="words" @submit.prevent="save">
    <label for="words"
      >What you know and no figure tells: what was tried, who was called, what was learnt</label
    >
    <Textarea id="words" v-model:value="words" :rows="5" :maxlength="20000" />
    <ProblemNote v-if="saving.problem.value" :problem="saving.problem.value" @retry="save" />
    <p class="acts">
      <Button type="primary" html-type="submit" :loading="saving.busy.value !== ''" :disabled="!isChanged"
        >Save</Button
      >
      <Button @click="cancel">Cancel</Button>
    </p>
  </form>
  <ReportView v-if="report" :report="report" />
</template>

<style scoped>
.acts {
  display: flex;
  gap: 10px;
  align-items: baseline;
  margin: 8px 0 0;
}
.page-head .acts {
  margin: 0 0 0 auto;
}
</style>
