<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import {
  between,
  ago,
  bytes,
  clock,
  count,
  counted,
  milliseconds,
  number,
  percent,
  seconds,
  source,
} from '../format'
import PageState from '../ui/PageState.vue'
import StatementLink from '../ui/StatementLink.vue'
import TableLink from '../ui/TableLink.vue'
import StripStack from '../pictures/StripStack.vue'
import { databaseRows, withGaps } from './databaseRows'

/** One database: what it did, what it is, its own settings, its largest tables and costliest statements. */
const { instance } = useInstance()
const news = useNews('figures', 'contents')
const { window, key } = useWindow(news)
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const name = computed(() => String(route.params.database))
const MOST_STATEMENTS = 8

const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${name.value} ${key.value}`,
  news,
  async () => {
    const path = { instance_id: id.value }
    const query = asQuery(window.value)
    const [database, statements, history] = await Promise.all([
      answer(
        api.GET('/api/v1/instances/{instance_id}/databases/{name}', {
          params: { path: { ...path, name: name.value }, query },
        }),
      ),
      answer(
        api.GET('/api/v1/instances/{instance_id}/statements', {
          params: { path, query: { ...query, database: name.value, page_size: MOST_STATEMENTS } },
        }),
      ),
      answer(api.GET('/api/v1/instances/{instance_id}/history', { params: { path, query: {} } })),
    ])
    return { database, statements, markers: history.markers }
  },
)
const database = computed(() => data.value?.database ?? null)
const strips = computed(() => {
  const known = database.value
  if (!known) return null
  const { starts, cells } = withGaps(known.cells, known.span.from, known.span.to, known.cell_seconds)
  return { starts, rows: databaseRows(cells, known.figures.work, known.seconds) }
})
const markers = computed(() =>
  (data.value?.markers ?? []).map((marker) => ({ at: new Date(marker.at), text: marker.text })),
)
const window_query = computed(() => ({ from: route.query.from, to: route.query.to, last: route.query.last }))
const properties = computed(() => {
  const known = database.value
  if (!known) return []
  const { properties: of, figures } = known
  const now = new Date()
  return [
    ['owner', figures.owner],
    ['size', bytes(figures.size_bytes)],
    ['encoding, collation, character type', `${of.encoding}, ${of.collation}, ${of.character_type}`],
    ['tablespace', of.location ? `${of.tablespace}, ${of.location}` : of.tablespace],
    [
      'connections allowed',
      figures.allows_connections
        ? of.connection_limit === null
          ? 'no limit'
          : count(of.connection_limit)
        : 'none',
    ],
    ['busy sessions', number(figures.load?.total)],
    ['oldest transaction', seconds(of.oldest_transaction_seconds)],
    ['idle in transaction', seconds(figures.work.idle_open_us / 1e6)],
    ['transaction ID age', count(of.transaction_age)],
    ['counters reset', of.counters_reset_at ? clock(of.counters_reset_at, now) : 'never'],
    [
      'last backup',
      known.last_backup ? `${ago(known.last_backup.at, now)}: ${known.last_backup.text}` : 'none noted',
    ],
    ['properties read', clock(of.read_at, now)],
  ] as const
})
</script>

<template>
  <div class="page-head">
    <h1>Database {{ name }}</h1>
    <RouterLink :to="{ name: 'databases', query: window_query }">← all databases</RouterLink>
    <span v-if="database" class="muted">
      {{ seconds(database.seconds) }} counted, {{ source(database.detail) }}
    </span>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="database && data && strips">
    <section class="sheet">
      <StripStack
        v-if="database.seconds > 0"
        :starts="strips.starts"
        :cell-seconds="database.cell_seconds"
        :rows="strips.rows"
        :figure-heads="['mean', 'peak']"
        :figures-of="`${between(window)}, ${source(database.detail)}`"
        :chosen="null"
        read-only
        :markers="markers"
      />
      <p v-else class="muted">No counters were read in this window yet: figures need two readings.</p>
    </section>
    <div class="columns">
      <section class="sheet">
        <h2>Properties</h2>
        <table class="figures">
          <tbody>
            <tr v-for="[what, value] in properties" :key="what">
              <td class="muted">{{ what }}</td>
              <td>{{ value }}</td>
            </tr>
          </tbody>
        </table>
        <h2 class="next">Settings of this database</h2>
        <p v-if="database.settings.length === 0" class="muted">
          This database has no settings of its own: those of the server are in force.
        </p>
        <table v-else class="figures">
          <tbody>
            <tr v-for="own in database.settings" :key="`${own.account} ${own.name}`">
              <td class="mono">{{ own.name }} = {{ own.value }}</td>
              <td>{{ own.account ? `for ${own.account}` : 'for everybody' }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section class="sheet">
        <h2>Largest tables</h2>
        <p v-if="!database.tables" class="muted">
          Tables are known of the database that Hurnix connects to. To see those of {{ name }}, connect it as
          an instance of its own under <RouterLink :to="{ name: 'instances' }">Instances</RouterLink>.
        </p>
        <p v-else-if="database.tables.length === 0" class="muted">This database has no tables.</p>
        <table v-else class="figures" data-test="tables">
          <thead>
            <tr>
              <th>table</th>
              <th class="number">size</th>
              <th class="number">indexes</th>
              <th class="number">rows</th>
              <th class="number" title="row versions that vacuum has yet to remove">dead rows</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="table in database.tables" :key="table.table">
              <td><TableLink :database="name" :name="table.table" /></td>
              <td class="number">{{ bytes(table.size_bytes) }}</td>
              <td class="number" :title="counted(table.indexes, 'index')">{{ bytes(table.index_bytes) }}</td>
              <td class="number">{{ count(table.rows) }}</td>
              <td class="number">{{ count(table.dead_rows) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="database.tables" class="muted foot">
          {{ count(database.table_count) }} tables and {{ count(database.index_count) }} indexes in all; sizes
          as of the server's last count.
        </p>
      </section>
    </div>
    <section class="sheet">
      <h2>Statements by time</h2>
      <p v-if="data.statements.families.length === 0" class="muted">No statement ended in this window.</p>
      <table v-else class="figures" data-test="statements">
        <thead>
          <tr>
            <th class="number">calls</th>
            <th class="number">time</th>
            <th class="number">mean</th>
            <th class="number" title="of the time of this database's statements">share</th>
            <th class="number" title="WAL generated">WAL</th>
            <th class="wide">statement</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in data.statements.families" :key="row.family_id">
            <td class="number">{{ count(row.figures.calls) }}</td>
            <td class="number">{{ seconds(row.figures.exec_us / 1e6) }}</td>
            <td class="number">{{ milliseconds(row.mean_ms) }}</td>
            <td class="number">{{ percent(row.share) }}</td>
            <td class="number">{{ bytes(row.figures.log_bytes) }}</td>
            <td class="wide">
              <StatementLink :family="row.family_id" :text="row.text" :query="window_query" />
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="data.statements.matching > MOST_STATEMENTS" class="muted foot">
        {{ count(data.statements.matching) }} families, {{ seconds(data.statements.total.exec_us / 1e6) }} and
        {{ bytes(data.statements.total.log_bytes) }} of WAL in all.
      </p>
    </section>
  </template>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 3fr);
  gap: 12px;
  align-items: start;
}
.next {
  margin-top: 12px;
}
.wide {
  width: 100%;
  max-width: 0;
}
.foot {
  font-size: 12.5px;
  margin: 6px 0 0;
}
</style>
