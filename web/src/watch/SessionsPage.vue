<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import ActionDialog from '../actions/ActionDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { counted, seconds } from '../format'
import { KINDS } from '../pictures/kinds'
import KindSwatch from '../pictures/KindSwatch.vue'
import PageState from '../ui/PageState.vue'
import { useSession } from '../stores/session'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'

type Row = Schemas['SessionOnServer']
/** Who is busy on the server right now, what holds whom up, and what an administrator may do about it. */
const { instance } = useInstance()
const news = useNews('activity')
const person = useSession()
const id = computed(() => instance.value?.instance_id ?? 0)
const { loaded, reload } = useLoaded(id, news, () =>
  answer(
    api.GET('/api/v1/instances/{instance_id}/sessions', { params: { path: { instance_id: id.value } } }),
  ),
)
const sessions = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const position = (row: Row) => KINDS.findIndex((kind) => kind.key === row.wait_kind)
const doing = (row: Row) => KINDS[position(row)]?.label ?? 'idle in transaction'
const COLUMNS: Column<Row>[] = [
  { key: 'process', title: 'process', number: true, value: (row) => row.process || null },
  { key: 'account', title: 'account', value: (row) => [row.account, row.program, row.client].join(' ') },
  { key: 'database', title: 'database', value: (row) => row.database },
  { key: 'state', title: 'state', value: doing },
  {
    key: 'blocks',
    title: 'blocks',
    hint: 'sessions that wait behind it, directly or through others',
    number: true,
    value: (row) => row.blocks,
  },
  {
    key: 'transaction',
    title: 'transaction age',
    number: true,
    value: (row) => row.transaction_seconds,
    text: (row) => seconds(row.transaction_seconds ?? null),
  },
  {
    key: 'running',
    title: 'statement age',
    number: true,
    value: (row) => row.statement_seconds,
    text: (row) => seconds(row.statement_seconds ?? null),
  },
  { key: 'statement', title: 'statement', wide: true, value: (row) => row.statement },
]
/** Of a queue the first are enough: the others wait for these. */
const behind = (row: Row) => {
  const [first, ...others] = row.blocked_by
  const who = first === 0 ? 'a prepared transaction' : first
  return `behind ${who}${others.length ? ` and ${others.length} more` : ''}`
}
const mayAct = computed(
  () => person.current?.role === 'administrator' && instance.value?.engine === 'postgres',
)
const meant = ref<{ session: Row; kind: 'cancel_statement' | 'end_session' } | null>(null)
</script>

<template>
  <div class="page-head">
    <h1>Sessions of {{ instance?.label }}</h1>
    <span v-if="sessions" class="muted"
      >{{ counted(sessions.length, 'session') }} not idle at the last sample; sessions that block others come
      first</span
    >
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="sessions" class="sheet">
    <DataTable
      name="sessions"
      test="sessions"
      :rows="sessions"
      :columns="COLUMNS"
      :row-key="(row) => `${row.process} ${row.started_at}`"
    >
      <template #empty><p class="muted">No session was busy at the last sample.</p></template>
      <template #cell-process="{ row }">{{ row.process || '' }}</template>
      <template #cell-account="{ row }">
        {{ row.account }}
        <div class="muted small">{{ [row.program, row.client].filter(Boolean).join(', ') }}</div>
      </template>
      <template #cell-state="{ row }">
        <KindSwatch v-if="position(row) >= 0" :kind="position(row)" class="swatch" />
        <span :class="{ open: position(row) < 0 }" :title="row.event ?? undefined">{{ doing(row) }}</span>
        <div v-if="row.blocked_by.length" class="muted small">{{ behind(row) }}</div>
      </template>
      <template #cell-blocks="{ row }">
        <span :class="{ open: row.blocks > 0 }">{{ row.blocks || '' }}</span>
      </template>
      <template #cell-statement="{ row }">
        <RouterLink
          v-if="row.family_id"
          class="mono one-line"
          :to="{ name: 'family', params: { family: row.family_id }, query: $route.query }"
          :title="row.statement ?? undefined"
          >{{ row.statement }}</RouterLink
        >
      </template>
      <template v-if="mayAct" #actions="{ row }">
        <div class="acts">
          <!-- Nobody's process holds the locks of a prepared transaction. -->
          <span v-if="row.process === 0" class="muted small">ROLLBACK PREPARED ends it</span>
          <Button
            v-if="row.wait_kind"
            size="small"
            title="Cancel the statement"
            @click="meant = { session: row, kind: 'cancel_statement' }"
            >Cancel</Button
          >
          <Button
            v-if="row.process !== 0"
            size="small"
            title="End the session"
            @click="meant = { session: row, kind: 'end_session' }"
            >End</Button
          >
        </div>
      </template>
    </DataTable>
  </div>
  <ActionDialog
    v-if="meant && instance"
    :instance-id="instance.instance_id"
    :asked="{
      kind: meant.kind,
      process: meant.session.process,
      started_at: meant.session.started_at,
    }"
    @close="meant = null"
    @done="reload"
  >
    <template v-if="meant.session.blocks > 0">
      {{ counted(meant.session.blocks, 'session') }} that
      {{ meant.session.blocks === 1 ? 'waits' : 'wait' }} behind it can go on.
    </template>
  </ActionDialog>
</template>

<style scoped>
.small {
  font-size: 12.5px;
}
.swatch {
  margin-right: 5px;
}
.open {
  color: var(--plum);
  font-weight: 700;
}
.acts {
  white-space: nowrap;
}
.acts button + button {
  margin-left: 6px;
}
</style>
