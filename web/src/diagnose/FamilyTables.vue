<script setup lang="ts">
import type { Schemas } from '../api/client'
import { bytes, count } from '../format'
import DataTable from '../ui/DataTable.vue'
import TableLink from '../ui/TableLink.vue'
import type { Column } from '../ui/table'

/** The tables that a statement names, with their size and indexes. */
type Row = Schemas['NamedTable']
defineProps<{ tables: readonly Row[] }>()
const COLUMNS: Column<Row>[] = [
  { key: 'table', title: 'table', value: (row) => `${row.schema}.${row.name}` },
  { key: 'database', title: 'database', aside: true, value: (row) => row.database },
  {
    key: 'rows',
    title: 'rows',
    hint: "by the server's last count",
    number: true,
    value: (row) => row.rows,
    text: (row) => (row.rows == null ? '' : count(row.rows)),
  },
  {
    key: 'size',
    title: 'size',
    hint: 'without indexes',
    number: true,
    value: (row) => row.size_bytes,
    text: (row) => bytes(row.size_bytes),
  },
  {
    key: 'index_size',
    title: 'indexes',
    number: true,
    value: (row) => row.indexes.reduce((sum, index) => sum + index.size_bytes, 0),
    text: (row) => bytes(row.indexes.reduce((sum, index) => sum + index.size_bytes, 0)),
  },
  {
    key: 'keys',
    title: 'keys of its indexes',
    wide: true,
    value: (row) => row.indexes.map((index) => `${index.name} (${index.keys.join(', ')})`).join('; '),
  },
]
</script>

<template>
  <DataTable
    name="tables"
    test="named-tables"
    :rows="tables"
    :columns="COLUMNS"
    :row-key="(row) => `${row.database} ${row.schema}.${row.name}`"
    one="table"
    plain
  >
    <template #cell-table="{ row }">
      <TableLink :database="row.database" :name="`${row.schema}.${row.name}`" />
    </template>
    <template #cell-keys="{ row }">
      <span v-for="index in row.indexes" :key="index.name" class="index" :title="index.name">
        <span class="mono">({{ index.keys.join(', ') }})</span>&nbsp;<span class="muted">{{
          bytes(index.size_bytes)
        }}</span>
      </span>
    </template>
  </DataTable>
</template>

<style scoped>
.index {
  display: inline-block;
  margin-right: 14px;
}
</style>
