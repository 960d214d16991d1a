<script setup lang="ts">
import { InputSearch, Segmented } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { clock } from '../format'
import PageState from '../ui/PageState.vue'
import DataTable from '../ui/DataTable.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'

/** The audit trail: who changed, or tried to change, what. */
type Row = Schemas['AuditFigures']
const PAGE_SIZE = 25
const DAY = 86_400_000
const SPANS = [
  { value: '1', label: 'a day' },
  { value: '7', label: 'a week' },
  { value: '30', label: '30 days' },
  { value: '400', label: '400 days' },
]
const OUTCOMES = [
  { value: 'all', label: 'All' },
  { value: 'done', label: 'Done' },
  { value: 'refused', label: 'Refused' },
  { value: 'failed', label: 'Failed' },
  { value: 'begun', label: 'Begun' },
] as const
const route = useRoute()
const router = useRouter()
const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
const span = computed(() => SPANS.find((known) => known.value === text('span'))?.value ?? '7')
const outcome = computed(() => OUTCOMES.find((known) => known.value === text('outcome'))?.value ?? 'all')
const { page, order } = useTableState('audit', '-at')
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'audit.page': undefined, ...change } })
}
/** What is asked for, as it stands in the address. */
function query() {
  const to = new Date()
  return {
    from: new Date(to.getTime() - Number(span.value) * DAY + 1000).toISOString(),
    to: to.toISOString(),
    account: text('account'),
    action: text('action'),
    outcome: outcome.value === 'all' ? undefined : outcome.value,
    search: text('search') || undefined,
    sort: order.value?.column as Schemas['AuditOrder'] | undefined,
    ascending: order.value?.ascending,
  }
}
const ask = (page: number, page_size: number, asked = query()) =>
  answer(api.GET('/api/v1/audit', { params: { query: { ...asked, page, page_size } } }))
const {
  loaded,
  data: trail,
  reload,
} = useLoaded(
  () => [span.value, JSON.stringify({ ...query(), from: '', to: '' }), page.value].join(' '),
  () => 0,
  () => ask(page.value, PAGE_SIZE),
)
/** All pages are of one window: else entries that come meanwhile would move the others from page to page. */
const everyRow = () => {
  const same = query()
  return everyPage(async (page, pageSize) => {
    const { matching, entries } = await ask(page, pageSize, same)
    return { matching, rows: entries }
  })
}
const words = (action: string) => action.replaceAll('_', ' ')
const COLUMNS: Column<Row>[] = [
  { key: 'at', sorts: true, title: 'time', value: (row) => row.at, text: (row) => clock(row.at, new Date()) },
  { key: 'account', sorts: true, title: 'account', value: (row) => row.account },
  { key: 'means', title: 'signed in by', value: (row) => row.means },
  { key: 'client', title: 'address', value: (row) => row.client },
  { key: 'action', sorts: true, title: 'action', value: (row) => row.action },
  { key: 'instance', sorts: true, title: 'instance', value: (row) => row.instance },
  { key: 'detail', title: 'detail', wide: true, value: (row) => row.detail },
  { key: 'outcome', sorts: true, title: 'outcome', value: (row) => row.outcome },
]
</script>

<template>
  <div class="page-head">
    <h1>Audit trail</h1>
    <span class="muted">Who changed or tried to change what</span>
    <div class="filters no-print">
      <div role="group" aria-label="How far back">
        <Segmented :value="span" :options="SPANS" @change="(value) => go({ span: String(value) })" />
      </div>
      <div role="group" aria-label="Which outcome">
        <Segmented
          :value="outcome"
          :options="[...OUTCOMES]"
          @change="(value) => go({ outcome: value === 'all' ? undefined : String(value) })"
        />
      </div>
      <InputSearch
        :default-value="text('search') ?? ''"
        placeholder="Search entries"
        allow-clear
        @search="(value: string) => go({ search: value || undefined })"
      />
    </div>
  </div>
  <div v-if="text('account') || text('action')" class="chips">
    <span v-if="text('account')" class="chip"
      >by {{ text('account')
      }}<button type="button" aria-label="By everybody" @click="go({ account: undefined })">×</button></span
    >
    <span v-if="text('action')" class="chip"
      >{{ words(text('action') ?? '')
      }}<button type="button" aria-label="Every action" @click="go({ action: undefined })">×</button></span
    >
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="trail" class="sheet">
    <DataTable
      name="audit"
      test="audit"
      :rows="trail.entries"
      :columns="COLUMNS"
      :row-key="(row) => row.audit_id"
      order="-at"
      :page-size="PAGE_SIZE"
      :matching="trail.matching"
      one="entry"
      many="entries"
      :every-row="everyRow"
    >
      <template #empty><p class="empty">No entry of this period matches.</p></template>
      <template #cell-account="{ row }">
        <button type="button" class="narrow" @click="go({ account: row.account })">{{ row.account }}</button>
      </template>
      <template #cell-client="{ row }"
        ><span class="mono">{{ row.client }}</span></template
      >
      <template #cell-action="{ row }">
        <button type="button" class="narrow" @click="go({ action: row.action })">
          {{ words(row.action) }}
        </button>
      </template>
      <template #cell-detail="{ row }"
        ><span class="detail">{{ row.detail }}</span></template
      >
      <template #cell-outcome="{ row }"
        ><span :class="{ not: row.outcome !== 'done' }">{{ row.outcome }}</span></template
      >
    </DataTable>
  </div>
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
.chips {
  display: flex;
  gap: 8px;
  margin-bottom: 10px;
}
.detail {
  white-space: normal;
  overflow-wrap: anywhere;
}
.empty {
  margin: 4px 0;
}
.narrow {
  white-space: nowrap;
  border: 0;
  padding: 0;
  background: none;
  font: inherit;
  color: inherit;
  cursor: pointer;
  text-decoration: underline dotted var(--muted);
  text-underline-offset: 3px;
}
.not {
  font-weight: 700;
}
</style>
