<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { useWindow } from '../composables/useWindow'
import {
  between,
  bytes,
  clock,
  count,
  counted,
  milliseconds,
  number,
  percent,
  seconds,
  source,
  timesAs,
} from '../format'
import KindBar from '../pictures/KindBar.vue'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import PageState from '../ui/PageState.vue'
import DataTable from '../ui/DataTable.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'
import ExecutionList from './ExecutionList.vue'
import FamilyComparison from './FamilyComparison.vue'
import FloodList from './FloodList.vue'
import NestedStatements from './NestedStatements.vue'
import PartSelect from './PartSelect.vue'

type Row = Schemas['StatementRow']
type Kind = Schemas['StatementKind']
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
    key: 'planning',
    filters: true,
    aside: true,
    title: 'planning',
    hint: 'time planning, where the server keeps it (pg_stat_statements.track_planning); filtered in seconds',
    number: true,
    sorts: true,
    value: (row) => row.figures.plan_us / 1e6,
    text: (row) => seconds(row.figures.plan_us / 1e6),
  },
  {
    key: 'reads',
    filters: true,
    aside: true,
    title: 'reads',
    hint: 'pages read from outside the cache',
    number: true,
    sorts: true,
    value: (row) => row.figures.read_pages,
    text: (row) => count(row.figures.read_pages),
  },
  {
    key: 'writes',
    filters: true,
    aside: true,
    title: 'writes',
    hint: 'pages changed',
    number: true,
    sorts: true,
    value: (row) => row.figures.dirtied_pages,
    text: (row) => count(row.figures.dirtied_pages),
  },
  {
    key: 'temp',
    filters: true,
    aside: true,
    title: 'temp',
    hint: 'pages of temp files, read and written',
    number: true,
    sorts: true,
    value: (row) => row.figures.temp_read_pages + row.figures.temp_written_pages,
    text: (row) => count(row.figures.temp_read_pages + row.figures.temp_written_pages),
  },
  {
    key: 'wal',
    filters: true,
    aside: true,
    title: 'WAL',
    hint: 'WAL made; filtered in bytes',
    number: true,
    sorts: true,
    value: (row) => row.figures.log_bytes,
    text: (row) => bytes(row.figures.log_bytes),
  },
  {
    key: 'deviation',
    aside: true,
    title: 'deviation',
    hint: 'standard deviation of the times of single executions',
    number: true,
    value: (row) => row.deviation_ms,
    text: (row) => (row.deviation_ms == null ? '' : milliseconds(row.deviation_ms)),
  },
  { key: 'kind', aside: true, title: 'kind', value: (row) => row.kind },
  {
    key: 'waiting',
    filters: true,
    title: 'running and waiting',
    hint: 'sessions seen running it or waiting in it, by wait kind; sorted and filtered by those that waited',
    number: true,
    sorts: true,
    value: (row) => row.waiting,
  },
  {
    key: 'running',
    filters: true,
    aside: true,
    title: 'running',
    hint: 'sessions that ran it on average, on a processor or ready for one: the most processor time that it can have taken, in seconds a second; the server counts none by statement',
    number: true,
    sorts: true,
    value: (row) => row.running,
    text: (row) => (row.running == null ? '' : number(row.running)),
  },
  {
    key: 'longest',
    filters: true,
    aside: true,
    title: 'longest',
    hint: 'the longest execution that a look at the sessions saw, as far as single looks are kept; filtered in seconds',
    number: true,
    sorts: true,
    value: (row) => row.longest_seconds,
    text: (row) => (row.longest_seconds == null ? '' : seconds(row.longest_seconds)),
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
/** Seconds before the end of the window in which what has just finished is looked for. */
const JUST_NOW_SECONDS = 300
/** What goes on around the statements of applications. */
const AROUND: readonly Kind[] = ['session', 'monitoring']
const KIND_NAMES: Record<Kind, string> = {
  query: 'queries',
  change: 'changes of rows',
  procedure: 'procedures',
  definition: 'definitions',
  upkeep: 'upkeep',
  session: 'sessions and transactions',
  monitoring: 'monitoring',
  other: 'other',
}
const SORTS = [
  { value: 'application', label: 'what applications ask' },
  { value: 'around', label: 'sessions and monitoring' },
  { value: 'all', label: 'all statements' },
  ...Object.entries(KIND_NAMES).map(([value, name]) => ({ value, label: `only ${name}` })),
]
const PARTS = [
  { by: 'account', one: 'account' },
  { by: 'program', one: 'program' },
  { by: 'database', one: 'database' },
] as const

const { instance } = useInstance()
const news = useNews('statements', 'findings')
const { window, key } = useWindow(news)
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const { order, page, filter, go, columns } = useTableState('statements', ORDER)
/** Looks at the sessions are gone through for it only where somebody wants to see it. */
const showsLongest = computed(() => columns.value?.split(',').includes('longest') ?? false)
const router = useRouter()
const search = computed(() => filter('text'))
const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
/** Sorts of statements shown: those of applications unless others are chosen. */
const kinds = computed(() => text('kind') ?? 'application')
const kindsAsked = computed(() => {
  if (kinds.value === 'all') return undefined
  if (kinds.value === 'around') return AROUND.join(',')
  const known = Object.keys(KIND_NAMES) as Kind[]
  const chosen = known.filter((kind) => kind === kinds.value)
  return (chosen.length ? chosen : known.filter((kind) => !AROUND.includes(kind))).join(',')
})
function narrow(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'statements.page': undefined, ...change } })
}
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
    kinds: kindsAsked.value,
    account: text('account'),
    program: text('program'),
    database: text('database'),
    ...bounds.value,
    page,
    page_size,
    with_longest: showsLongest.value || undefined,
  }
  const path = { instance_id: id.value }
  return answer(api.GET('/api/v1/instances/{instance_id}/statements', { params: { path, query } }))
}
const { loaded, data, reload } = useLoaded(
  () =>
    JSON.stringify([
      id.value,
      key.value,
      order.value,
      bounds.value,
      page.value,
      search.value,
      kindsAsked.value,
      showsLongest.value,
      ...PARTS.map(({ by }) => text(by)),
    ]),
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
/** Bars of one page are on one scale. */
const fullLoad = computed(() =>
  Math.max(...(data.value?.list.families ?? []).map((row) => row.load.total ?? 0), 0),
)
/** The end of the window, in which what runs and what has just finished is looked for. */
const justNow = computed(() => ({
  from: new Date(Math.max(+window.value.to - JUST_NOW_SECONDS * 1000, +window.value.from)),
  to: window.value.to,
}))
/** Families held side by side. */
const compared = computed(() => (text('compare') ?? '').split(',').filter((family) => /^\d+$/.test(family)))
const isCompared = (row: Row) => compared.value.includes(row.family_id)
function compare(row: Row): void {
  const others = compared.value.filter((family) => family !== row.family_id)
  const chosen = isCompared(row) ? others : [...others, row.family_id]
  void router.replace({ query: { ...route.query, compare: chosen.join(',') || undefined } })
}
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
  <details v-if="!isEmpty" class="sheet" data-test="just-now" :open="text('now') === 'open'">
    <summary
      @click.prevent="
        router.replace({ query: { ...route.query, now: text('now') === 'open' ? undefined : 'open' } })
      "
    >
      Running at {{ window.last ? 'the moment' : `the end, ${clock(window.to, new Date())}` }}, and finished
      in the {{ seconds(JUST_NOW_SECONDS) }} before
    </summary>
    <ExecutionList
      v-if="text('now') === 'open'"
      :instance-id="id"
      :span="justNow"
      :span-key="key"
      order="newest"
      :again="news"
    />
  </details>
  <FloodList v-if="!isEmpty" :instance-id="id" :span="window" :span-key="key" :again="news" />
  <NestedStatements v-if="!isEmpty" :instance-id="id" :span="window" :span-key="key" :again="news" />
  <FamilyComparison
    v-if="compared.length > 1"
    :instance-id="id"
    :span="window"
    :span-key="key"
    :families="compared"
    :again="news"
    @close="router.replace({ query: { ...route.query, compare: undefined } })"
  />
  <div v-if="data && !isEmpty" class="sheet">
    <div class="narrow">
      <ChoiceSelect
        :model-value="kinds"
        :options="SORTS"
        name="Sort of statements"
        @update:model-value="(kind) => narrow({ kind: kind === 'application' ? undefined : kind })"
      />
      <PartSelect
        v-for="part in PARTS"
        :key="part.by"
        :instance-id="id"
        :span="window"
        :by="part.by"
        :one="part.one"
        :chosen="text(part.by)"
        @choose="(name) => narrow({ [part.by]: name })"
      />
      <span v-if="kinds === 'application' && data.list.around.families > 0" class="muted">
        Apart:
        <button type="button" class="plain" @click="narrow({ kind: 'around' })">
          {{ counted(data.list.around.families, 'statement') }} of sessions and monitoring</button
        >, {{ seconds(data.list.around.figures.exec_us / 1e6) }}
      </span>
      <span v-if="compared.length === 1" class="muted"
        >1 statement chosen: choose another to see them side by side.</span
      >
    </div>
    <p v-if="text('program')" class="muted">
      The server counts by account and database, not by program: calls, time and pages are those of all
      programs; running and waiting are those of {{ text('program') }}.
    </p>
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
      <template #cell-waiting="{ row }">
        <KindBar :load="row.load" :full="fullLoad" />
      </template>
      <template #actions="{ row }">
        <button
          type="button"
          class="plain compare"
          :aria-pressed="isCompared(row)"
          :title="isCompared(row) ? 'Take it out of the comparison' : 'Compare it with others, side by side'"
          @click="compare(row)"
        >
          {{ isCompared(row) ? '− compare' : '+ compare' }}
        </button>
      </template>
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
.compare {
  white-space: nowrap;
}
.narrow {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
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
