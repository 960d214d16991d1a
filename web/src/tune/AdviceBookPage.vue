<script setup lang="ts">
import { Segmented } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { clock, percent } from '../format'
import ReplicaNote from '../pictures/ReplicaNote.vue'
import PageState from '../ui/PageState.vue'
import DataTable from '../ui/DataTable.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'
import CostModel from './CostModel.vue'
import NotUnderstood from './NotUnderstood.vue'
import TrackRecord from './TrackRecord.vue'
import { predicted, savedTime, shareOfPrediction, STATES, VERDICTS } from './verdicts'

type Row = Schemas['AdviceFigures']
const PAGE_SIZE = 25
const ORDER = '-predicted'
const FILTERS = [
  { value: 'all', label: 'All' },
  { value: 'open', label: 'Open' },
  { value: 'applied', label: 'Applied' },
  { value: 'set_aside', label: 'Dismissed' },
  { value: 'lapsed', label: 'No longer valid' },
] as const
const { instance } = useInstance()
const news = useNews('findings')
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
const state = computed(() => FILTERS.find((filter) => filter.value === route.query.state)?.value ?? 'all')
const { order, page } = useTableState('advice', ORDER)
const byAge = computed(() => order.value?.column === 'made')
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'advice.page': undefined, ...change } })
}
const ask = (page: number, page_size: number) => {
  const path = { instance_id: id.value }
  const only = state.value === 'all' ? undefined : state.value
  const query = { state: only, by_age: byAge.value, page, page_size }
  return answer(api.GET('/api/v1/instances/{instance_id}/advice', { params: { path, query } }))
}
const {
  loaded,
  data: book,
  reload,
} = useLoaded(
  () => [id.value, state.value, byAge.value, page.value].join(' '),
  news,
  () => ask(page.value, PAGE_SIZE),
)
const everyRow = () =>
  everyPage(async (page, pageSize) => {
    const { matching, advice } = await ask(page, pageSize)
    return { matching, rows: advice }
  })
const COLUMNS: Column<Row>[] = [
  { key: 'state', title: 'state', value: (row) => STATES[row.state] },
  {
    key: 'predicted',
    title: 'predicted',
    number: true,
    sorts: 'descending',
    value: (row) => row.predicted_seconds_per_day,
    text: predicted,
  },
  {
    key: 'measured',
    title: 'measured',
    number: true,
    value: (row) => row.effect?.saved_seconds_per_day?.value,
  },
  {
    key: 'verdict',
    title: 'verdict',
    value: (row) => (row.effect ? VERDICTS[row.effect.verdict] : null),
  },
  {
    key: 'subject',
    title: 'recommendation',
    wide: true,
    value: (row) => `${row.title}: ${row.subject}`,
  },
  {
    key: 'made',
    title: 'given',
    number: true,
    sorts: 'descending',
    value: (row) => row.made_at,
    text: (row) => clock(row.made_at, new Date(), false),
  },
]
</script>

<template>
  <div class="page-head">
    <h1>Advice book</h1>
    <span class="muted">All recommendations with their predicted and measured effect</span>
    <div class="filter" role="group" aria-label="Which recommendations">
      <Segmented
        :value="state"
        :options="[...FILTERS]"
        @change="(value) => go({ state: value === 'all' ? undefined : String(value) })"
      />
    </div>
  </div>
  <ReplicaNote />
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="book?.record.length" class="sheet records" aria-label="Track record">
    <TrackRecord v-for="record in book.record" :key="record.kind" :record="record" />
  </div>
  <div v-if="book" class="sheet">
    <DataTable
      name="advice"
      test="advice-book"
      :rows="book.advice"
      :columns="COLUMNS"
      :row-key="(row) => row.advice_id"
      :order="ORDER"
      :page-size="PAGE_SIZE"
      :matching="book.matching"
      one="recommendation"
      :every-row="everyRow"
    >
      <template #empty
        ><p class="empty">
          {{
            state === 'all'
              ? 'There are no recommendations: no missing and no unused index was found so far. New ones appear here.'
              : `No recommendation is ${STATES[state]}.`
          }}
        </p></template
      >
      <template #cell-measured="{ row }">
        <template v-if="row.effect?.saved_seconds_per_day">
          {{ savedTime(row.effect.saved_seconds_per_day.value) }}
          <span class="muted"
            >({{ percent(shareOfPrediction(row.effect, row.predicted_seconds_per_day)) }})</span
          >
        </template>
        <span v-else class="muted">–</span>
      </template>
      <template #cell-verdict="{ row }"
        ><span class="verdict" :class="row.effect?.verdict">{{
          row.effect ? VERDICTS[row.effect.verdict] : '–'
        }}</span></template
      >
      <template #cell-subject="{ row }">
        {{ row.title }}:
        <RouterLink
          class="mono"
          :to="{ name: 'advice', params: { advice: row.advice_id }, query: { last: route.query.last } }"
          >{{ row.subject }}</RouterLink
        >
      </template>
    </DataTable>
    <p class="muted foot">
      Predicted and measured: how many sessions fewer are busy with these statements on average, the same in
      time a day, at the rate of calls before, and space freed. As a percentage: measured as a share of
      predicted.
    </p>
  </div>
  <NotUnderstood :instance="id" :news="news" />
  <CostModel :instance="id" :news="news" />
</template>

<style scoped>
.filter {
  margin-left: auto;
}
.records {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 32px;
}
.empty {
  margin: 4px 0;
}
.foot {
  font-size: 12.5px;
  margin: 8px 0 0;
}
.verdict {
  white-space: nowrap;
}
.confirmed,
.harmful {
  font-weight: 700;
}
.harmful {
  color: var(--warn);
}
</style>
