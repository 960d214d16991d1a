<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { useWindow } from '../composables/useWindow'
import { between, clock, count, milliseconds, percent, seconds, source, timesAs } from '../format'
import PageState from '../ui/PageState.vue'
import DataTable from '../ui/DataTable.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'

type Row = Schemas['StatementRow']
const COLUMNS: Column<Row>[] = [
  {
    key: 'calls',
    filters: true,
    title: 'calls',
    hint: 'executions that ended in the window',
    number: true,
    sorts: true,
    value: (row) => row.figures.calls,
    text: (row) => `${row.lower_bound ? '≥ ' : ''}${count(row.figures.calls)}`,
  },
  {
    key: 'time',
    filters: true,
    title: 'time',
    hint: 'time executing, all calls together; filtered in seconds',
    number: true,
    sorts: true,
    value: (row) => row.figures.exec_us / 1e6,
    text: (row) => seconds(row.figures.exec_us / 1e6),
  },
  {
    key: 'mean',
    filters: true,
    title: 'mean',
    hint: 'time per call; filtered in milliseconds',
    number: true,
    sorts: true,
    value: (row) => row.mean_ms,
    text: (row) => milliseconds(row.mean_ms),
  },
  {
    key: 'pages',
    filters: true,
    title: 'pages',
    hint: 'pages touched, in cache or out of it',
    number: true,
    sorts: true,
    value: (row) => row.figures.hit_pages + row.figures.read_pages,
    text: (row) => count(row.figures.hit_pages + row.figures.read_pages),
  },
  {
    key: 'rows',
    filters: true,
    title: 'rows',
    hint: 'rows returned or changed',
    number: true,
    sorts: true,
    value: (row) => row.figures.rows,
    text: (row) => count(row.figures.rows),
  },
  {
    key: 'share',
    title: 'share',
    hint: 'share of the time of all statements',
    number: true,
    value: (row) => row.share,
    text: (row) => percent(row.share),
  },
  { key: 'text', title: 'statement', wide: true, sorts: true, value: (row) => row.text },
]
const PAGE_SIZE = 25
const ORDER = '-time'

const { instance } = useInstance()
const news = useNews('statements', 'findings')
const { window, key } = useWindow(news)
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const { order, page, filter, go } = useTableState('statements', ORDER)
const search = computed(() => filter('text'))
/** Filters of figures, as they were typed. */
const bounds = computed(() => {
  const keys = COLUMNS.filter((column) => column.filters).map((column) => column.key)
  return Object.fromEntries(keys.map((key) => [key, filter(key) || undefined]))
})
const find = useDebounceFn((text: string) => go({ 'is.text': text || undefined }), 250)

const isSort = (column: string | undefined): column is Schemas['StatementOrder'] =>
  COLUMNS.some(({ key, sorts }) => sorts && key === column)
const ask = (page: number, page_size: number, span = window.value) => {
  const column = order.value?.column
  const query = {
    from: span.from.toISOString(),
    to: span.to.toISOString(),
    sort: isSort(column) ? column : ('time' as const),
    ascending: order.value?.ascending ?? false,
    search: search.value,
    ...bounds.value,
    page,
    page_size,
  }
  const path = { instance_id: id.value }
  return answer(api.GET('/api/v1/instances/{instance_id}/statements', { params: { path, query } }))
}
const { loaded, data, reload } = useLoaded(
  () =>
    [id.value, key.value, JSON.stringify([order.value, bounds.value]), page.value, search.value].join(' '),
  news,
  async () => {
    const path = { instance_id: id.value }
    const [list, changes] = await Promise.all([
      ask(page.value, PAGE_SIZE),
      answer(
        api.GET('/api/v1/instances/{instance_id}/changes', {
          params: { path, query: { measured: 'time_per_call' } },
        }),
      ),
    ])
    const holding = changes.filter((change) => change.change.until == null)
    return { list, changes: new Map(holding.map((change) => [change.family_id, change.change])) }
  },
)
/** All pages are of one window, also while the window follows the clock. */
const everyRow = () => {
  const same = window.value
  return everyPage(async (page, pageSize) => {
    const { matching, families } = await ask(page, pageSize, same)
    return { matching, rows: families }
  })
}
const isEmpty = computed(() => data.value?.list.coverage.periods === 0)
/** Window and source of the figures. */
const figuresOf = computed(() => {
  const coverage = data.value?.list.coverage
  return coverage?.span
    ? `${between(coverage.span)}, the server's own counters, ${source(coverage.detail)}`
    : undefined
})
const limit = computed(() => instance.value?.limits.find((limit) => limit.figures === 'statements'))
</script>

<template>
  <div class="page-head">
    <h1>Statements</h1>
    <span class="muted"
      >Families: statements that differ in literals only, from the server's own counters</span
    >
    <RouterLink :to="{ name: 'plan' }">Read a plan from elsewhere</RouterLink>
  </div>
  <div v-if="limit" class="sheet">
    <h2>Statement figures are not available</h2>
    <p>{{ limit.reason }}</p>
    <pre>{{ limit.remedy }}</pre>
  </div>
  <PageState
    :loaded="loaded"
    :empty="isEmpty ? 'No period of this window has figures yet.' : undefined"
    next="Figures need two readings of the counters: choose a longer window, or wait a moment."
    @retry="reload"
  />
  <div v-if="data && !isEmpty" class="sheet">
    <DataTable
      name="statements"
      test="statements"
      :rows="data.list.families"
      :columns="COLUMNS"
      :row-key="(row) => row.family_id"
      :order="ORDER"
      :page-size="PAGE_SIZE"
      :matching="data.list.matching"
      one="family"
      many="families"
      :every-row="everyRow"
      :figures-of="figuresOf"
    >
      <template #tools>
        <input
          type="search"
          class="search"
          :value="search"
          placeholder="Search statements"
          aria-label="Search statements whose text contains"
          @input="(event) => find((event.target as HTMLInputElement).value)"
        />
        <span class="muted foot">
          {{ seconds(data.list.total.exec_us / 1e6) }} in all<template v-if="data.list.coverage.span">
            · {{ count(data.list.coverage.periods) }} periods from
            {{ clock(data.list.coverage.span.from, new Date()) }} to
            {{ clock(data.list.coverage.span.to, new Date()) }},
            {{ source(data.list.coverage.detail) }}</template
          >
        </span>
      </template>
      <template #empty
        ><p class="empty">
          {{
            search
              ? `No statement of this window contains “${search}”.`
              : 'No statement ended in this window.'
          }}
        </p></template
      >
      <template #cell-share="{ row }">
        <span class="bar" :style="{ width: `${row.share * 44}px` }" />{{ percent(row.share) }}
      </template>
      <template #cell-text="{ row }">
        <RouterLink
          class="mono one-line"
          :to="{
            name: 'family',
            params: { family: row.family_id },
            query: { from: route.query.from, to: route.query.to, last: route.query.last },
          }"
          :title="row.text"
          >{{ row.text }}</RouterLink
        >
        <span
          v-if="data.changes.get(row.family_id)"
          class="change"
          :class="{ slower: data.changes.get(row.family_id)!.ratio.value > 1 }"
        >
          {{ data.changes.get(row.family_id)!.ratio.value > 1 ? '◆ slower' : 'faster' }} since
          {{ clock(data.changes.get(row.family_id)!.onset, new Date()) }}:
          {{ timesAs(data.changes.get(row.family_id)!.ratio.value) }}
        </span>
        <span v-if="row.tag" class="muted tag">/* {{ row.tag }} */</span>
      </template>
    </DataTable>
    <details v-if="data.list.coverage.without.length" class="muted">
      <summary>
        {{ data.list.coverage.without.length }}
        {{ data.list.coverage.without.length === 1 ? 'reading' : 'readings' }} without figures for the time
        before
      </summary>
      <div v-for="gap in data.list.coverage.without" :key="gap.at">
        {{ clock(gap.at, new Date()) }} – {{ gap.reason }}
      </div>
    </details>
  </div>
</template>

<style scoped>
.search {
  width: 240px;
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 8px;
}
.bar {
  display: inline-block;
  height: 9px;
  background: var(--plum);
  margin-right: 6px;
}
.change,
.tag {
  font-size: 12.5px;
  margin-right: 10px;
}
.slower {
  color: var(--plum);
  font-weight: 700;
}
.foot {
  margin-right: auto;
}
.empty {
  margin: 4px 0;
}
</style>
