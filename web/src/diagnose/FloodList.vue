<script setup lang="ts">
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { bytes, clock, count, counted, percent, seconds } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import StatementLink from '../ui/StatementLink.vue'
import type { Column } from '../ui/table'
import { useWindowPart, type WindowPart } from './windowPart'

/** Statements that differ in literals only and fill the server's list; nothing at all where there are none. */
type Row = Schemas['LiteralFlood']
const props = defineProps<WindowPart>()
const route = useRoute()
const { loaded, data, reload } = useWindowPart(props, (params) =>
  answer(api.GET('/api/v1/instances/{instance_id}/literal-floods', { params })),
)
const COLUMNS: Column<Row>[] = [
  {
    key: 'texts',
    title: 'texts',
    hint: 'statements of the server’s list that differ in literals only',
    number: true,
    value: (row) => row.texts,
    text: (row) => count(row.texts),
  },
  {
    key: 'share',
    title: 'share of the list',
    number: true,
    value: (row) => row.share,
    text: (row) => percent(row.share),
  },
  {
    key: 'bytes',
    title: 'size of texts',
    number: true,
    value: (row) => row.text_bytes,
    text: (row) => bytes(row.text_bytes),
  },
  {
    key: 'planning',
    title: 'planning',
    hint: 'time planning in the window, where the server counts that',
    number: true,
    value: (row) => row.figures.plan_us,
    text: (row) => (row.figures.plan_us > 0 ? seconds(row.figures.plan_us / 1e6) : '–'),
  },
  {
    key: 'calls',
    title: 'calls',
    number: true,
    value: (row) => row.figures.calls,
    text: (row) => count(row.figures.calls),
  },
  {
    key: 'since',
    title: 'since',
    number: true,
    value: (row) => row.since,
    text: (row) => clock(row.since, new Date()),
  },
  { key: 'statement', title: 'statement', wide: true, value: (row) => row.text },
]
</script>

<template>
  <PageState v-if="loaded.state === 'failed'" :loaded="loaded" @retry="reload" />
  <details v-else-if="data?.length" class="sheet" data-test="floods">
    <summary>
      {{ counted(data.length, 'literal flood') }}: <span class="mono">{{ data[0]!.text }}</span> stands
      {{ count(data[0]!.texts) }} times in the server’s list
    </summary>
    <p class="muted">
      These statements come with other literals each time. The server keeps each text as a statement of its
      own, plans it anew, and throws others out when its list is full. Have the program bind parameters.
    </p>
    <DataTable
      name="literal-floods"
      test="literal-floods"
      :rows="data"
      :columns="COLUMNS"
      :row-key="(row) => row.family_id"
      one="flood"
    >
      <template #cell-statement="{ row }">
        <StatementLink
          :family="row.family_id"
          :text="row.text"
          :query="{ from: route.query.from, to: route.query.to, last: route.query.last }"
        />
      </template>
    </DataTable>
  </details>
</template>
