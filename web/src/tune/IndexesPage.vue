<script setup lang="ts">
import { Checkbox, InputSearch } from 'ant-design-vue'
import { computed, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { bytes, clock, count, counted, number, seconds } from '../format'
import ReplicaNote from '../pictures/ReplicaNote.vue'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'
import IndexFinding from './IndexFinding.vue'

/** What can be said against each index of a database, by what it is worth. */
type Row = Schemas['IndexFindingFigures']
const PAGE_SIZE = 25
const ORDER = '-worth'
/** Indexes that are named in a sentence. */
const MOST_NAMED = 6
const { instance } = useInstance()
const news = useNews('findings')
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
const { order, page } = useTableState('indexes', ORDER)
const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
/** What is narrowed to, and the first page of it. */
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'indexes.page': undefined, finding: undefined, ...change } })
}
const query = computed(() => ({
  database: text('database'),
  kind: text('kind') as Schemas['IndexFindingKind'] | undefined,
  search: text('search') || undefined,
  small: text('small') === 'true' || undefined,
  sort: order.value?.column as Schemas['IndexFindingOrder'] | undefined,
  ascending: order.value?.ascending,
}))
const ask = (page: number, page_size: number) => {
  const path = { instance_id: id.value }
  const params = { path, query: { ...query.value, page, page_size } }
  return answer(api.GET('/api/v1/instances/{instance_id}/index-review', { params }))
}
const {
  loaded,
  data: review,
  reload,
} = useLoaded(
  () => JSON.stringify([id.value, query.value, page.value]),
  news,
  () => ask(page.value, PAGE_SIZE),
)
const everyRow = () =>
  everyPage(async (page, pageSize) => {
    const { matching, findings } = await ask(page, pageSize)
    return { matching, rows: findings }
  })
const kinds = computed(() => review.value?.kinds ?? [])
const kindOf = (row: Row) => kinds.value.find((kind) => kind.kind === row.kind)
const CERTAINTIES: Record<Schemas['Certainty'], string> = {
  certain: 'certain',
  likely: 'likely',
  possible: 'possible',
}
const offered = computed(() => [
  { value: undefined, label: 'all findings' },
  ...kinds.value
    .filter((kind) => kind.found > 0 || kind.kind === query.value.kind)
    .map((kind) => ({ value: kind.kind, label: `${kind.title} (${kind.found})` })),
])
const databases = computed(() =>
  (review.value?.databases ?? []).map((name, at) => ({ value: at === 0 ? undefined : name, label: name })),
)
const keyOf = (row: Row) => [row.kind, row.schema, row.table, row.index ?? row.beside ?? ''].join('/')
/** Its name; with its schema where that is not the usual one. */
const nameOf = (row: Row) => (row.schema === 'public' ? '' : `${row.schema}.`) + (row.index ?? row.table)
const COLUMNS: Column<Row>[] = [
  { key: 'kind', title: 'finding', sorts: true, value: (row) => kindOf(row)?.title },
  { key: 'name', title: 'index or table', sorts: true, value: nameOf },
  { key: 'evidence', title: 'what was found', wide: true, value: (row) => row.evidence },
  {
    key: 'certainty',
    title: 'how sure',
    sorts: true,
    value: (row) => CERTAINTIES[row.certainty],
  },
  {
    key: 'size',
    title: 'size',
    number: true,
    sorts: true,
    value: (row) => row.size_bytes,
    text: (row) => bytes(row.size_bytes),
  },
  {
    key: 'written',
    title: 'written a day',
    hint: 'Entries that inserts and updates write to it in a day',
    number: true,
    sorts: true,
    value: (row) => row.entries_per_day,
    text: (row) => number(row.entries_per_day),
  },
  {
    key: 'reads',
    title: 'reads a day',
    hint: 'Index scans in a day, on all watched servers that have it',
    number: true,
    sorts: true,
    value: (row) => row.reads_per_day,
    text: (row) => number(row.reads_per_day),
  },
  {
    key: 'worth',
    title: 'worth',
    hint: 'Bytes that need not be kept, nor written or read within a month',
    number: true,
    sorts: true,
    value: (row) => row.worth_bytes,
    text: (row) => bytes(row.worth_bytes),
  },
]
const isNarrowed = computed(() => query.value.kind !== undefined || query.value.search !== undefined)
const chosen = computed(() => review.value?.findings.find((row) => keyOf(row) === text('finding')))
const summary = computed(() => {
  const of = review.value
  if (!of) return ''
  const found = counted(of.matching, 'finding')
  const freed = of.freed_bytes > 0 ? `; ${bytes(of.freed_bytes)} could be given back` : ''
  return `${counted(of.tables, 'table')}, ${count(of.indexes)} indexes of ${bytes(of.size_bytes)}: ${found}${freed}.`
})
/** Of how many it is known whether they are larger than need be. */
const estimated = computed(() => {
  const of = review.value
  if (!of || of.estimated >= of.indexes) return ''
  if (of.estimated === 0)
    return 'Bloat is not estimated: the account that Hurnix connects with may not read the statistics of these tables (it needs pg_read_all_data).'
  return `Bloat is estimated for ${count(of.estimated)} of them: B-trees on columns whose statistics are known.`
})
/** What the figures of use rest on, and what is missing of it. */
const basis = computed(() => {
  const of = review.value?.counted
  if (!review.value) return ''
  if (!of)
    return 'Reads and writes are counted in the database that Hurnix connects to only: whether an index here is used is not known.'
  const servers = of.servers === 1 ? 'on this server' : `on ${of.servers} servers with the same data`
  const unread = review.value.unread_so_far
  const short = unread.length
    ? ` Not read so far, and not watched for so long: ${unread.slice(0, MOST_NAMED).join(', ')}${unread.length > MOST_NAMED ? ` and ${count(unread.length - MOST_NAMED)} more` : ''}.`
    : ''
  const seen = `Reads and writes were counted ${servers} for ${seconds(of.seconds)}. An index is called unused after ${of.cycle_days} days without a read.${short}`
  if (of.unwatched_servers === 0) return seen
  return `${seen} ${counted(of.unwatched_servers, 'server')} with the same data ${of.unwatched_servers === 1 ? 'is' : 'are'} not watched and may read them: until that is, nothing is called unused.`
})
watch(id, () => text('database') && go({ database: undefined }))
</script>

<template>
  <div class="page-head">
    <h1>Indexes</h1>
    <span class="muted">What can be said against each index, by what it is worth</span>
    <div class="filters no-print">
      <ChoiceSelect
        v-if="databases.length > 1"
        :model-value="query.database"
        :options="databases"
        name="Which database"
        @update:model-value="(database) => go({ database, kind: undefined })"
      />
      <ChoiceSelect
        :model-value="query.kind"
        :options="offered"
        name="Which findings"
        @update:model-value="(kind) => go({ kind })"
      />
      <InputSearch
        :default-value="query.search ?? ''"
        placeholder="Search tables and indexes"
        allow-clear
        @search="(value: string) => go({ search: value || undefined })"
      />
    </div>
  </div>
  <ReplicaNote />
  <PageState
    :loaded="loaded"
    :empty="
      review && !review.read_at ? 'The tables and indexes of this instance were not read yet.' : undefined
    "
    next="They are read within minutes after it is connected; Watch › Collection tells when."
    @retry="reload"
  />
  <template v-if="review?.read_at">
    <div class="sheet">
      <p class="summary">
        <b>{{ summary }}</b>
        <span class="muted">
          The catalog was read {{ clock(review.read_at, new Date()) }}. {{ basis }} {{ estimated }}
        </span>
      </p>
      <DataTable
        name="indexes"
        test="indexes"
        :rows="review.findings"
        :columns="COLUMNS"
        :row-key="keyOf"
        :order="ORDER"
        :page-size="PAGE_SIZE"
        :matching="review.matching"
        :every-row="everyRow"
        :row-class="(row) => (row === chosen ? 'chosen' : undefined)"
        one="finding"
      >
        <template #tools>
          <Checkbox
            :checked="query.small ?? false"
            @change="(event) => go({ small: event.target.checked ? 'true' : undefined })"
            >Small ones, too<template v-if="review.small">
              ({{ count(review.small) }} more)</template
            ></Checkbox
          >
        </template>
        <template #empty>
          <p class="muted">
            <template v-if="isNarrowed">No finding matches.</template>
            <template v-else-if="review.small">
              Nothing was found that is worth more than a megabyte;
              {{ counted(review.small, 'small finding') }}
              can be shown.
            </template>
            <template v-else>
              Nothing can be said against any index: none is unused, duplicate, invalid or larger than it need
              be.
            </template>
          </p>
        </template>
        <template #cell-kind="{ row }">
          <RouterLink
            :to="{ query: { ...route.query, finding: keyOf(row) } }"
            :replace="true"
            :data-test="`finding-${row.kind}`"
            >{{ kindOf(row)?.title }}</RouterLink
          >
        </template>
        <template #cell-name="{ row }"
          ><span class="mono name">{{ nameOf(row) }}</span></template
        >
      </DataTable>
    </div>
    <IndexFinding
      v-if="chosen"
      :key="keyOf(chosen)"
      :database="review.database"
      :finding="chosen"
      :kind="kindOf(chosen)"
      @close="go({ 'indexes.page': page > 1 ? String(page) : undefined })"
    />
  </template>
</template>

<style scoped>
.filters {
  margin-left: auto;
  display: flex;
  gap: 10px;
}
.summary {
  margin: 0 0 8px;
}
.name {
  display: inline-block;
  min-width: 170px;
  overflow-wrap: anywhere;
}
:deep(td.wide) {
  min-width: 300px;
}
:deep(tr.chosen > td) {
  background: var(--plum-wash);
}
</style>
