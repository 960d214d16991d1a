<script setup lang="ts">
import { ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { bytes, count, counted, milliseconds, percent, seconds } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import { useWindowPart, type WindowPart } from './windowPart'

/** What functions and procedures ran; nothing at all where the server counted nothing of it. */
type Row = Schemas['NestedStatement']
const props = defineProps<WindowPart>()
const isOpen = ref(false)
const { loaded, data, reload } = useWindowPart(props, (params) =>
  answer(api.GET('/api/v1/instances/{instance_id}/nested-statements', { params })),
)
const counts = (
  key: keyof Row & ('calls' | 'rows' | 'read_pages' | 'temp_written_pages'),
  title: string,
): Column<Row> => ({ key, title, number: true, value: (row) => row[key], text: (row) => count(row[key]) })
const COLUMNS: Column<Row>[] = [
  {
    key: 'time',
    title: 'time',
    number: true,
    value: (row) => row.exec_us,
    text: (row) => seconds(row.exec_us / 1e6),
  },
  {
    key: 'share',
    title: 'share',
    hint: 'of the time of all statements inside functions',
    number: true,
    value: (row) => row.share,
    text: (row) => percent(row.share),
  },
  counts('calls', 'calls'),
  {
    key: 'mean',
    title: 'mean',
    number: true,
    value: (row) => (row.calls > 0 ? row.exec_us / row.calls : null),
    text: (row) => (row.calls > 0 ? milliseconds(row.exec_us / row.calls / 1e3) : '–'),
  },
  counts('rows', 'rows'),
  counts('read_pages', 'reads'),
  counts('temp_written_pages', 'temp'),
  {
    key: 'wal',
    title: 'WAL',
    number: true,
    value: (row) => row.log_bytes,
    text: (row) => bytes(row.log_bytes),
  },
  { key: 'statement', title: 'statement', wide: true, value: (row) => row.text },
]
</script>

<template>
  <PageState v-if="loaded.state === 'failed'" :loaded="loaded" @retry="reload" />
  <details
    v-else-if="data?.statements.length"
    class="sheet"
    data-test="nested"
    @toggle="(event) => (isOpen = (event.target as HTMLDetailsElement).open)"
  >
    <summary>
      {{ counted(data.count, 'statement') }} ran inside functions and procedures:
      {{ seconds(data.statements.reduce((sum, row) => sum + row.exec_us, 0) / 1e6) }}
    </summary>
    <p class="muted">
      The time of a statement that calls a function holds the time of these already. They are counted while
      <span class="mono">pg_stat_statements.track</span> is <span class="mono">all</span>.
    </p>
    <DataTable
      v-if="isOpen"
      name="nested-statements"
      test="nested-statements"
      :rows="data.statements"
      :columns="COLUMNS"
      :row-key="(row) => row.family_id"
      order="-time"
      one="statement"
    >
      <template #cell-statement="{ row }"
        ><span class="mono" :title="row.text">{{ row.text }}</span></template
      >
    </DataTable>
  </details>
</template>
