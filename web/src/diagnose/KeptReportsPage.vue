<script setup lang="ts">
import { Button, InputSearch } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { between, clock } from '../format'
import { useActions } from '../frame/pageActions'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'
import { dayName } from '../weekdays'
import NewReport from './NewReport.vue'
import ReportScheduleForm from './ReportScheduleForm.vue'

/** Reports that are kept, of all instances, and those that are made by themselves. */
type Row = Schemas['KeptReportFigures']
type Schedule = Schemas['ScheduleFigures']
const person = useSession()
const mayKeep = computed(() => person.current?.role !== undefined && person.current.role !== 'reader')
const ROWS = 25
const route = useRoute()
const router = useRouter()
const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
const { page, order } = useTableState('kept', '-made')
/** What is narrowed to, and the first page of it. */
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'kept.page': undefined, ...change } })
}
const query = computed(() => ({
  kind: text('kind') as Schemas['ReportKind'] | undefined,
  search: text('search') || undefined,
  sort: order.value?.column as Schemas['KeptReportOrder'] | undefined,
  ascending: order.value?.ascending,
}))
const isNarrowed = computed(() => query.value.kind !== undefined || query.value.search !== undefined)
const ask = (page: number, page_size: number) =>
  answer(api.GET('/api/v1/reports', { params: { query: { ...query.value, page, page_size } } }))
const again = ref(0)
const { loaded, data, reload } = useLoaded(
  () => JSON.stringify([query.value, page.value]),
  again,
  () => ask(page.value, ROWS),
)
const everyRow = () =>
  everyPage(async (page, pageSize) => {
    const { matching, reports } = await ask(page, pageSize)
    return { matching, rows: reports }
  })
const {
  loaded: schedulesLoaded,
  data: schedules,
  reload: reloadSchedules,
} = useLoaded(
  () => 'schedules',
  () => 0,
  () => answer(api.GET('/api/v1/report-schedules')),
)
const { data: kinds } = useLoaded(
  () => 'kinds',
  () => 0,
  () => answer(api.GET('/api/v1/reports/kinds')),
)
/** To the minute: a report has its seconds. */
const span = (row: Row) =>
  between({ from: new Date(row.span.from), to: new Date(row.span.to) }).replace(/(\d\d:\d\d):\d\d/g, '$1')
const whose = (row: { instance?: string | null; group?: string | null }) =>
  row.instance ?? (row.group ? `group ${row.group}` : 'all instances')
const COLUMNS: Column<Row>[] = [
  { key: 'title', sorts: true, title: 'report', value: (row) => row.title },
  { key: 'span', sorts: true, title: 'period', value: (row) => row.span.from, text: span },
  {
    key: 'made',
    sorts: true,
    title: 'made',
    value: (row) => row.made_at,
    text: (row) => clock(row.made_at, new Date()),
  },
  { key: 'by', sorts: true, title: 'by', value: (row) => row.made_by },
  { key: 'words', title: 'words', value: (row) => row.words.split('\n')[0], wide: true },
]
const offered = computed(() => [
  { value: undefined, label: 'all kinds' },
  ...(kinds.value ?? []).map((one) => ({ value: one.kind, label: one.title })),
])
const titleOf = (kind: string) => kinds.value?.find((one) => one.kind === kind)?.title ?? kind
const often = ({ every, weekday, at }: Schedule) =>
  every === 'day'
    ? `every day at ${at}`
    : every === 'week'
      ? `every ${dayName(weekday ?? '')} at ${at}`
      : `on the first of each month at ${at}`
const SCHEDULES: Column<Schedule>[] = [
  { key: 'report', title: 'report', value: (row) => titleOf(row.kind) },
  { key: 'of', title: 'of', value: whose },
  { key: 'often', title: 'made', value: often },
  { key: 'zone', title: 'time zone', value: (row) => row.time_zone },
  {
    key: 'next',
    title: 'next',
    value: (row) => row.next_at,
    text: (row) => clock(row.next_at, new Date(), false),
  },
  { key: 'kept', title: 'kept', number: true, value: (row) => row.most_kept },
  { key: 'problem', title: 'state', value: (row) => row.problem ?? 'as planned', wide: true },
]
const removing = useAction()
async function removeReport(row: Row): Promise<void> {
  const path = { report_id: row.report_id }
  await removing.run('remove', () => answer(api.DELETE('/api/v1/reports/{report_id}', { params: { path } })))
  await reload()
}
async function removeSchedule(row: Schedule): Promise<void> {
  const path = { schedule_id: row.schedule_id }
  await removing.run('remove', () =>
    answer(api.DELETE('/api/v1/report-schedules/{schedule_id}', { params: { path } })),
  )
  await reloadSchedules()
}
const creates = ref(false)
const scheduling = ref<{ open: boolean; changed: Schedule | null }>({ open: false, changed: null })
const schedule = (changed: Schedule | null) => (scheduling.value = { open: true, changed })
useActions(() =>
  mayKeep.value
    ? [
        { title: 'Create a report', run: () => (creates.value = true) },
        { title: 'Create a report schedule', run: () => schedule(null) },
      ]
    : [],
)
watch(creates, (open) => !open && (again.value += 1))
</script>

<template>
  <div class="page-head">
    <h1>Kept reports</h1>
    <span class="muted">They stay when their figures are gone; each has a link</span>
    <div class="filters no-print">
      <ChoiceSelect
        :model-value="query.kind"
        :options="offered"
        name="Which kind"
        @update:model-value="(kind) => go({ kind })"
      />
      <InputSearch
        :default-value="query.search ?? ''"
        placeholder="Search titles and words"
        allow-clear
        @search="(value: string) => go({ search: value || undefined })"
      />
      <Button v-if="mayKeep" type="primary" @click="creates = true">Create report</Button>
    </div>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="reload" />
  <div v-if="data" class="sheet">
    <DataTable
      name="kept"
      test="kept"
      :rows="data.reports"
      :columns="COLUMNS"
      :row-key="(row) => row.report_id"
      order="-made"
      :matching="data.matching"
      :page-size="ROWS"
      :every-row="everyRow"
      one="report"
    >
      <template #empty
        ><p v-if="isNarrowed" class="muted">No kept report matches.</p>
        <p v-else class="muted">
          No report is kept yet. Keep one that you look at on the page Reports of an instance, create one
          here, or have one made by itself.
        </p></template
      >
      <template #cell-title="{ row }"
        ><RouterLink :to="{ name: 'kept-report', params: { report: row.report_id } }">{{
          row.title
        }}</RouterLink></template
      >
      <template v-if="mayKeep" #actions="{ row }">
        <ConfirmButton
          :lost="`The report “${row.title}” is deleted, with what people wrote to it.`"
          action="Delete"
          @confirm="removeReport(row)"
        />
      </template>
    </DataTable>
  </div>
  <div class="sheet">
    <header class="part">
      <h2>Made by themselves</h2>
      <Button v-if="mayKeep" size="small" @click="schedule(null)">Create schedule</Button>
    </header>
    <PageState :loaded="schedulesLoaded" @retry="reloadSchedules" />
    <DataTable
      v-if="schedules"
      name="schedules"
      test="schedules"
      :rows="schedules"
      :columns="SCHEDULES"
      :row-key="(row) => row.schedule_id"
      order="next"
      one="schedule"
    >
      <template #empty><p class="muted">No report is made by itself, each day, week or month.</p></template>
      <template #cell-problem="{ row }">
        <span :class="{ failed: row.problem }">{{ row.problem ?? 'as planned' }}</span>
      </template>
      <template v-if="mayKeep" #actions="{ row }">
        <span class="acts">
          <Button size="small" @click="schedule(row)">Edit</Button>
          <ConfirmButton
            lost="The report will no longer be made by itself. Those that were made stay."
            action="Delete"
            @confirm="removeSchedule(row)"
          />
        </span>
      </template>
    </DataTable>
  </div>
  <NewReport v-if="kinds" :open="creates" :kinds="kinds" @close="creates = false" />
  <ReportScheduleForm
    v-if="kinds"
    :open="scheduling.open"
    :changed="scheduling.changed"
    :kinds="kinds"
    @close="scheduling.open = false"
    @saved="reloadSchedules"
  />
</template>

<style scoped>
:deep(td:not(.wide)) {
  white-space: nowrap;
}
.filters {
  margin-left: auto;
  display: flex;
  gap: 10px;
}
.part {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
.acts {
  display: flex;
  gap: 6px;
}
.failed {
  color: var(--warn);
}
</style>
