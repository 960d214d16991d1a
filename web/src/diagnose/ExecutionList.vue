<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { clock, seconds } from '../format'
import KindSwatch from '../pictures/KindSwatch.vue'
import { KINDS } from '../pictures/kinds'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import StatementLink from '../ui/StatementLink.vue'
import type { Column } from '../ui/table'
import { useWindowPart, type WindowPart } from './windowPart'

/** Single executions that the looks at the sessions saw: of all statements, or of one family. */
type Row = Schemas['Execution']
const props = defineProps<
  WindowPart & {
    order: Schemas['ExecutionOrder']
    /** Only those of this family, whose text need not be said then. */
    family?: string
  }
>()
const MOST = 50
const route = useRoute()
const { loaded, data, reload } = useWindowPart(
  props,
  ({ path, query }) =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/executions', {
        params: { path, query: { ...query, order: props.order, family_id: props.family, most: MOST } },
      }),
    ),
  () => [props.family, props.order],
)
const kindOf = (row: Row) => KINDS.findIndex((kind) => kind.key === row.mostly)
const COLUMNS: Column<Row>[] = [
  {
    key: 'state',
    title: 'state',
    hint: 'whether it went on when the server was last looked at',
    value: (row) => (row.is_running ? 'running' : 'finished'),
  },
  {
    key: 'seconds',
    title: 'took',
    hint: 'from its begin until it was last seen; what has finished took up to one look longer',
    number: true,
    value: (row) => row.seconds,
    text: (row) => `${row.is_running ? '' : '≥ '}${seconds(row.seconds)}`,
  },
  {
    key: 'began',
    title: 'began',
    number: true,
    value: (row) => row.began_at,
    text: (row) => clock(row.began_at, new Date()),
  },
  {
    key: 'mostly',
    title: 'mostly',
    hint: 'what most looks saw it busy with',
    value: (row) => KINDS[kindOf(row)]?.label,
  },
  { key: 'account', title: 'account', value: (row) => row.account },
  { key: 'program', title: 'program', value: (row) => row.program },
  { key: 'client', title: 'client', aside: true, value: (row) => row.client },
  { key: 'database', title: 'database', aside: true, value: (row) => row.database },
  { key: 'process', title: 'process', number: true, aside: true, value: (row) => row.process },
]
const columns = computed(() => [
  ...COLUMNS,
  ...(props.family ? [] : [{ key: 'text', title: 'statement', wide: true, value: (row: Row) => row.text }]),
])
</script>

<template>
  <PageState v-if="!data" :loaded="loaded" @retry="reload" />
  <p v-else-if="data.looked_at === null" class="muted">
    The looks of this window are not kept one by one: single executions are told of the last days.
  </p>
  <DataTable
    v-else
    name="executions"
    test="executions"
    :rows="data.executions"
    :columns="columns"
    :row-key="(row) => `${row.process} ${row.began_at} ${row.family_id}`"
    :page-size="8"
    one="execution"
  >
    <template #empty><p class="muted empty">No execution was long enough to be seen.</p></template>
    <template #cell-mostly="{ row }">
      <span v-if="kindOf(row) >= 0" class="mostly">
        <KindSwatch :kind="kindOf(row)" /> {{ KINDS[kindOf(row)]!.label }}
      </span>
    </template>
    <template #cell-text="{ row }">
      <StatementLink
        :family="row.family_id"
        :text="row.text"
        :query="{ from: route.query.from, to: route.query.to, last: route.query.last }"
      />
    </template>
  </DataTable>
</template>

<style scoped>
.mostly {
  white-space: nowrap;
}
.empty {
  margin: 4px 0;
}
</style>
