<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { bytes, clock, count, counted, milliseconds, number, percent, seconds } from '../format'
import ReplicaNote from '../pictures/ReplicaNote.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import StatementLink from '../ui/StatementLink.vue'
import TableLink from '../ui/TableLink.vue'
import { type Column } from '../ui/table'
import { searchesPerDay, usesInWords } from './columnUses'
import IndexFinding from './IndexFinding.vue'
import IndexMap from './IndexMap.vue'
import { STATES } from './verdicts'

/** One table in full: its index map, what it does, its columns, its indexes, and the statements that use it. */
const { instance } = useInstance()
const news = useNews('findings', 'contents')
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const of = (name: string) => String(route.params[name])
const {
  loaded,
  data: table,
  reload,
} = useLoaded(
  () => [id.value, of('database'), of('schema'), of('table')].join(' '),
  news,
  () => {
    const path = { instance_id: id.value, name: of('database'), schema: of('schema'), table: of('table') }
    return answer(
      api.GET('/api/v1/instances/{instance_id}/databases/{name}/tables/{schema}/{table}', {
        params: { path },
      }),
    )
  },
)
const SECONDS_PER_DAY = 86_400
const perDay = (value: number | null | undefined) => (value == null ? '' : number(value))
const summary = computed(() => {
  const known = table.value
  if (!known) return ''
  const indexes = known.indexes.length
    ? `${known.indexes.length === 1 ? '1 index' : `${known.indexes.length} indexes`} of ${bytes(known.index_bytes)}`
    : 'no index'
  const parts = known.partition_count ? ` in ${counted(known.partition_count, 'partition')}` : ''
  return `${counted(known.rows, 'row')}${parts}, ${bytes(known.size_bytes)}, ${indexes}.`
})
/** What it does in a day, in one sentence. */
const work = computed(() => {
  const of = table.value?.work
  if (!of) return 'Reads and writes are counted in the database that Hurnix connects to only.'
  const writes = of.inserted_rows + of.updated_rows + of.deleted_rows
  const inPage =
    of.updated_rows > 0
      ? ` (${percent(of.updated_in_page_rows / of.updated_rows)} of updates in their page)`
      : ''
  const cache = of.cache_share == null ? '' : ` ${percent(of.cache_share)} of its pages come from the cache.`
  const basis = table.value?.counted?.seconds ?? 0
  const day = basis < SECONDS_PER_DAY ? `At the rate of the last ${seconds(basis)}, in a day` : 'In a day'
  return (
    `${day} it is read by ${number(of.index_reads)} index scans and ${number(of.full_reads)} sequential scans, ` +
    `and ${number(writes)} rows are written: ${number(of.inserted_rows)} inserted, ` +
    `${number(of.updated_rows)} updated${inPage}, ${number(of.deleted_rows)} deleted.${cache}`
  )
})
const upkeep = computed(() => {
  const of = table.value?.upkeep
  if (!of) return ''
  const vacuum = of.vacuumed_ago == null ? 'Vacuum has not run' : `Vacuum ran ${seconds(of.vacuumed_ago)} ago`
  const dead = of.dead_rows == null ? '' : ` and left ${counted(of.dead_rows, 'dead row')}`
  if (of.analyzed_ago == null) return `${vacuum}${dead}; planner statistics were not collected.`
  const changed =
    of.rows_since_analyze == null ? '' : `, ${counted(of.rows_since_analyze, 'row')} changed since`
  return `${vacuum}${dead}; planner statistics were collected ${seconds(of.analyzed_ago)} ago${changed}.`
})
type ColumnRow = Schemas['TableColumn']
const COLUMNS: Column<ColumnRow>[] = [
  { key: 'name', title: 'column', value: (row) => row.name },
  { key: 'type', title: 'type', value: (row) => row.type_name },
  {
    key: 'uses',
    title: 'searched by, calls a day',
    hint: 'What statements of the last day do with it',
    wide: true,
    value: (row) => searchesPerDay(row.uses),
    text: (row) => usesInWords(row.uses),
  },
  {
    key: 'distinct',
    title: 'different values',
    hint: "by the planner's statistics",
    number: true,
    value: (row) => row.distinct_values,
    text: (row) => count(row.distinct_values),
  },
  {
    key: 'commonest',
    title: 'commonest',
    hint: 'Share of rows with the commonest value',
    number: true,
    value: (row) => row.commonest_share,
    text: (row) => percent(row.commonest_share),
  },
  {
    key: 'nulls',
    title: 'null',
    number: true,
    value: (row) => row.null_share,
    text: (row) => percent(row.null_share),
  },
  {
    key: 'width',
    title: 'width',
    hint: 'Mean width of a value',
    number: true,
    value: (row) => row.width_bytes,
    text: (row) => bytes(row.width_bytes),
  },
  {
    key: 'correlation',
    title: 'correlation',
    hint: 'How far its order follows that of the rows on disk, from -1 to 1',
    number: true,
    value: (row) => row.correlation,
    text: (row) => number(row.correlation),
  },
]
type IndexRow = Schemas['TableIndex']
const kindOf = (finding: Schemas['IndexFindingFigures']) =>
  table.value?.kinds.find((kind) => kind.kind === finding.kind)
const found = (row: IndexRow) =>
  (table.value?.findings ?? [])
    .filter((finding) => finding.index === row.name)
    .map((finding) => kindOf(finding)?.title.toLowerCase())
    .join(', ')
const about = (row: IndexRow) =>
  [
    row.valid ? '' : 'invalid',
    row.constraint ? 'constraint' : row.unique ? 'unique' : '',
    row.fill_factor == null ? '' : `fillfactor ${row.fill_factor}`,
    found(row),
  ]
    .filter(Boolean)
    .join('; ')
function keysOf({ method, keys, carried, condition }: IndexRow): string {
  const carries = carried.length ? ` include (${carried.join(', ')})` : ''
  return `${method === 'btree' ? '' : `${method} `}(${keys.join(', ')})${carries}${condition ? ` where ${condition}` : ''}`
}
const INDEXES: Column<IndexRow>[] = [
  { key: 'name', title: 'index', value: (row) => row.name },
  { key: 'method', title: 'kind', aside: true, value: (row) => row.method },
  {
    key: 'keys',
    title: 'keys, carried columns, condition',
    wide: true,
    value: keysOf,
  },
  { key: 'about', title: 'what it is', value: about },
  {
    key: 'size',
    title: 'size',
    number: true,
    value: (row) => row.size_bytes,
    text: (row) => bytes(row.size_bytes),
  },
  {
    key: 'reads',
    title: 'reads a day',
    number: true,
    value: (row) => row.reads_per_day,
    text: (row) => perDay(row.reads_per_day),
  },
  {
    key: 'written',
    title: 'written a day',
    hint: 'Entries that inserts and updates write to it in a day',
    number: true,
    value: (row) => row.entries_per_day,
    text: (row) => perDay(row.entries_per_day),
  },
]
type StatementRow = Schemas['TableStatement']
const does = (row: StatementRow) =>
  [row.reads ? 'reads' : '', row.writes ? 'writes' : '', row.is_unread ? 'not read in full' : '']
    .filter(Boolean)
    .join(', ')
const STATEMENTS: Column<StatementRow>[] = [
  { key: 'does', title: 'what it does', value: does },
  {
    key: 'calls',
    title: 'calls a day',
    number: true,
    value: (row) => row.calls_per_day,
    text: (row) => number(row.calls_per_day),
  },
  {
    key: 'mean',
    title: 'mean',
    number: true,
    value: (row) => row.mean_ms,
    text: (row) => milliseconds(row.mean_ms),
  },
  {
    key: 'share',
    title: 'share',
    hint: 'of the time of all statements of the database in the last day',
    number: true,
    value: (row) => row.share,
    text: (row) => percent(row.share),
  },
  { key: 'text', title: 'statement', wide: true, value: (row) => row.text },
]
type PartRow = Schemas['PartitionFigures']
const PARTS: Column<PartRow>[] = [
  { key: 'table', title: 'partition', wide: true, value: (row) => `${row.schema}.${row.table}` },
  { key: 'rows', title: 'rows', number: true, value: (row) => row.rows, text: (row) => count(row.rows) },
  {
    key: 'size',
    title: 'size',
    hint: 'without indexes',
    number: true,
    value: (row) => row.size_bytes,
    text: (row) => bytes(row.size_bytes),
  },
]
const references = computed(() => {
  const known = table.value
  if (!known) return []
  return [
    ...known.refers_to.map((one) => ({ ...one, what: 'refers to' })),
    ...known.referred_by.map((one) => ({ ...one, what: 'is referred to by' })),
  ]
})
const areKnown = computed(() => table.value?.columns.some((column) => column.width_bytes != null))
const keyOf = (finding: Schemas['IndexFindingFigures']) =>
  [finding.kind, finding.index ?? finding.beside ?? ''].join('/')
const chosen = computed(() => table.value?.findings.find((finding) => keyOf(finding) === route.query.finding))
</script>

<template>
  <div class="page-head">
    <h1>
      Table <span class="mono">{{ of('schema') }}.{{ of('table') }}</span>
    </h1>
    <RouterLink :to="{ name: 'indexes', query: { last: route.query.last } }">← all indexes</RouterLink>
    <span class="muted">in database {{ of('database') }}</span>
  </div>
  <ReplicaNote />
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="table">
    <section class="sheet">
      <p class="summary">
        <b>{{ summary }}</b>
        {{ work }} {{ upkeep }}
        <span v-if="table.part_of" class="muted"
          >It is a partition of <TableLink :database="table.database" :name="table.part_of" />.
        </span>
        <span class="muted">
          The catalog was read {{ clock(table.read_at, new Date())
          }}<template v-if="table.counted">; counters are of {{ seconds(table.counted.seconds) }}</template
          >.
        </span>
      </p>
      <ul v-if="table.findings.length || table.advice.length" class="said" data-test="said">
        <li v-for="finding in table.findings" :key="keyOf(finding)">
          <RouterLink :to="{ query: { ...route.query, finding: keyOf(finding) } }" :replace="true">{{
            kindOf(finding)?.title
          }}</RouterLink>
          {{ finding.evidence }}
        </li>
        <li v-for="one in table.advice" :key="one.advice_id">
          <RouterLink
            :to="{
              name: 'advice',
              params: { instance: route.params.instance, advice: one.advice_id },
              query: { last: route.query.last },
            }"
            >{{ one.title }}</RouterLink
          >
          <span class="mono">{{ one.subject }}</span> <span class="muted">{{ STATES[one.state] }}</span>
        </li>
      </ul>
    </section>
    <IndexFinding
      v-if="chosen"
      :key="keyOf(chosen)"
      :database="table.database"
      :finding="chosen"
      :kind="kindOf(chosen)"
      @close="$router.replace({ query: { ...route.query, finding: undefined } })"
    />
    <section class="sheet">
      <h2>Index map</h2>
      <IndexMap
        v-if="table.map.columns.length"
        :map="table.map"
        :indexes="table.indexes"
        :findings="table.findings"
        :kinds="table.kinds"
      />
      <p v-else class="muted">
        This table has no index, and no statement of the last day searches it by a column.
      </p>
    </section>
    <section class="sheet">
      <h2>Indexes</h2>
      <DataTable
        name="indexes"
        test="table-indexes"
        :rows="table.indexes"
        :columns="INDEXES"
        :row-key="(row) => row.name"
        order="-size"
        one="index"
        plain
      >
        <template #empty><p class="muted">This table has no index.</p></template>
        <template #cell-name="{ row }"
          ><span class="mono">{{ row.name }}</span></template
        >
        <template #cell-keys="{ row }"
          ><span class="mono" :title="row.method">{{ keysOf(row) }}</span></template
        >
      </DataTable>
    </section>
    <section class="sheet">
      <h2>Columns</h2>
      <p v-if="!areKnown" class="muted">
        Planner statistics are not known: they were not collected, or the account that Hurnix connects with
        may not read them (it needs pg_read_all_data).
      </p>
      <DataTable
        name="columns"
        test="table-columns"
        :rows="table.columns"
        :columns="COLUMNS"
        :row-key="(row) => row.name"
        one="column"
        plain
      >
        <template #cell-name="{ row }"
          ><span class="mono">{{ row.name }}</span></template
        >
      </DataTable>
    </section>
    <section class="sheet">
      <h2>Statements of the last day that use it</h2>
      <DataTable
        name="statements"
        test="table-statements"
        :rows="table.statements"
        :columns="STATEMENTS"
        :row-key="(row) => row.family_id"
        order="-share"
        :page-size="15"
        one="statement"
      >
        <template #empty><p class="muted">No statement of the last day names this table.</p></template>
        <template #cell-does="{ row }"
          ><span class="does">{{ does(row) }}</span></template
        >
        <template #cell-text="{ row }">
          <StatementLink :family="row.family_id" :text="row.text" :query="{ last: route.query.last }" />
        </template>
      </DataTable>
      <p v-if="table.statement_count > table.statements.length" class="muted">
        {{ counted(table.statement_count - table.statements.length, 'statement') }} that took less time are
        not shown.
      </p>
    </section>
    <section v-if="references.length" class="sheet">
      <h2>Foreign keys</h2>
      <ul class="said" data-test="references">
        <li v-for="one in references" :key="`${one.what} ${one.table} ${one.name}`">
          <span class="muted">{{ one.what }}</span>
          <TableLink :database="table.database" :name="one.table" /> by
          <span class="mono">{{ one.columns.join(', ') }}</span>
          <span class="muted mono">{{ one.name }}</span>
        </li>
      </ul>
    </section>
    <section v-if="table.partition_count" class="sheet">
      <h2>Partitions by {{ table.partition_keys.join(', ') }}</h2>
      <DataTable
        name="partitions"
        test="table-partitions"
        :rows="table.partitions"
        :columns="PARTS"
        :row-key="(row) => `${row.schema}.${row.table}`"
        order="-size"
        :page-size="15"
        one="partition"
      >
        <template #cell-table="{ row }">
          <TableLink :database="table.database" :name="`${row.schema}.${row.table}`" />
        </template>
      </DataTable>
    </section>
  </template>
</template>

<style scoped>
.summary {
  margin: 0;
}
.does {
  white-space: nowrap;
}
.said {
  margin: 8px 0 0;
  padding-left: 18px;
}
.said a {
  margin-right: 4px;
}
</style>
