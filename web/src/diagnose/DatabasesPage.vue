<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import { between, bytes, clock, count, number, percent, seconds, source } from '../format'
import PageState from '../ui/PageState.vue'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'
import { hitShare } from './databaseRows'

type Row = Schemas['DatabaseFigures']
/** Databases of an instance with their size and what they did in the window. */
const sum = (of: (row: Row) => number) => (rows: readonly Row[]) =>
  rows.reduce((total, row) => total + of(row), 0)
const COLUMNS: Column<Row>[] = [
  { key: 'name', title: 'database', value: (row) => row.name },
  { key: 'owner', title: 'owner', value: (row) => row.owner },
  {
    key: 'size',
    title: 'size',
    hint: 'on disk',
    number: true,
    value: (row) => row.size_bytes,
    text: (row) => bytes(row.size_bytes),
    total: (rows) => bytes(sum((row) => row.size_bytes ?? 0)(rows)),
  },
  {
    key: 'busy',
    title: 'busy',
    hint: 'mean number of busy sessions',
    number: true,
    value: (row) => row.load?.total,
    text: (row) => number(row.load?.total),
  },
  ...(
    [
      ['commits', 'commits', 'transactions committed'],
      ['rollbacks', 'rollbacks', 'transactions'],
      ['deadlocks', 'deadlocks', ''],
      ['sessions', 'new sessions', 'started in the window'],
    ] as const
  ).map(([key, title, hint]): Column<Row> => ({
    key,
    title,
    hint: hint || undefined,
    number: true,
    value: (row) => row.work[key],
    text: (row) => count(row.work[key]),
    total: (rows) => count(sum((row) => row.work[key])(rows)),
  })),
  {
    key: 'hits',
    title: 'cache hits',
    hint: 'share of the pages wanted',
    number: true,
    value: (row) => hitShare(row.work),
    text: (row) => percent(hitShare(row.work)),
  },
  {
    key: 'temp',
    title: 'temp files',
    hint: 'bytes written to temporary files',
    number: true,
    value: (row) => row.work.temp_bytes,
    text: (row) => bytes(row.work.temp_bytes),
    total: (rows) => bytes(sum((row) => row.work.temp_bytes)(rows)),
  },
]

const { instance } = useInstance()
const news = useNews('figures', 'contents')
const { window, key } = useWindow(news)
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const {
  loaded,
  data: list,
  reload,
} = useLoaded(
  () => `${id.value} ${key.value}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/databases', {
        params: {
          path: { instance_id: id.value },
          query: asQuery(window.value),
        },
      }),
    ),
)
const kind = (row: Row) =>
  row.is_connected ? 'watched in full' : row.is_template ? 'template' : row.allows_connections ? '' : 'closed'
</script>

<template>
  <div class="page-head">
    <h1>Databases of {{ instance?.label }}</h1>
    <span v-if="list" class="muted">
      {{ seconds(list.seconds) }} counted, {{ source(list.detail)
      }}<template v-if="list.read_at">; properties read {{ clock(list.read_at, new Date()) }}</template>
    </span>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="list" class="sheet">
    <p v-if="!list.read_at" class="muted">
      The list of databases was not read yet: it comes with the first reading of “inventory”.
    </p>
    <DataTable
      v-else
      name="databases"
      test="databases"
      order="-size"
      :figures-of="`${between(window)}, ${source(list.detail)}`"
      :rows="list.databases"
      :columns="COLUMNS"
      :row-key="(row) => row.name"
    >
      <template #cell-name="{ row }">
        <RouterLink :to="{ name: 'database', params: { database: row.name }, query: route.query }">{{
          row.name
        }}</RouterLink>
        <span v-if="kind(row)" class="muted kind">{{ kind(row) }}</span>
      </template>
    </DataTable>
  </div>
</template>

<style scoped>
.kind {
  font-size: 12.5px;
  margin-left: 8px;
}
</style>
