<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { clock, count, counted, seconds } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'

/** Locks as they stand on the server, searched by table or schema: also those that nobody waits for. */
const props = defineProps<{ instanceId: number }>()
type Row = Schemas['LockOnServer']
/** What is searched for; nothing while nobody asked. */
const asked = ref<string | null>(null)
const typed = ref('')
const { loaded, data, reload } = useLoaded(
  () => `${props.instanceId} ${asked.value}`,
  () => 0,
  async () =>
    asked.value === null
      ? null
      : answer(
          api.GET('/api/v1/instances/{instance_id}/held-locks', {
            params: { path: { instance_id: props.instanceId }, query: { search: asked.value } },
          }),
        ),
)
function search(): void {
  if (asked.value === typed.value) void reload()
  asked.value = typed.value
}
const COLUMNS: Column<Row>[] = [
  { key: 'object', title: 'table or index', value: (row) => row.object || null },
  { key: 'mode', title: 'mode', value: (row) => row.mode },
  { key: 'kind', title: 'lock of', value: (row) => row.kind },
  { key: 'held', title: 'state', value: (row) => (row.is_held ? 'held' : 'awaited') },
  { key: 'waiting', title: 'waiting', number: true, value: (row) => row.waiting },
  {
    key: 'process',
    title: 'process',
    number: true,
    value: (row) => row.process || null,
    text: (row) => (row.process ? String(row.process) : ''),
  },
  { key: 'account', title: 'account', value: (row) => row.account },
  { key: 'program', title: 'program', value: (row) => row.program },
  { key: 'client', title: 'client', value: (row) => row.client, aside: true },
  { key: 'database', title: 'database', value: (row) => row.database, aside: true },
  { key: 'doing', title: 'session', value: (row) => (row.is_idle ? 'idle in transaction' : 'works') },
  {
    key: 'age',
    title: 'transaction age',
    number: true,
    value: (row) => row.transaction_seconds,
    text: (row) => seconds(row.transaction_seconds ?? null),
  },
  { key: 'statement', title: 'statement', wide: true, value: (row) => row.statement },
]
</script>

<template>
  <section class="sheet" data-test="held-locks">
    <h2>Locks that are held now</h2>
    <form @submit.prevent="search">
      <input
        v-model="typed"
        type="search"
        maxlength="200"
        placeholder="part of schema.table, or nothing for all"
        aria-label="Table, index or schema"
      />
      <Button html-type="submit" size="small">Search</Button>
      <span v-if="data" class="muted">
        {{ counted(data.count, 'lock') }} at {{ clock(data.at, new Date(), true) }}
        <template v-if="data.count > data.locks.length"
          >, of which {{ count(data.locks.length) }} are shown; search for a table to see others</template
        >
      </span>
      <span v-else-if="asked === null" class="muted">The server is asked when you search.</span>
    </form>
    <PageState v-if="asked !== null" :loaded="loaded" @retry="reload" />
    <DataTable
      v-if="data"
      name="locks"
      one="lock"
      :rows="data.locks"
      :columns="COLUMNS"
      :page-size="25"
      :row-key="(row) => `${row.process} ${row.kind} ${row.mode} ${row.object} ${row.is_held}`"
    >
      <template #empty
        ><p class="muted">
          {{
            asked ? `Nobody holds a lock of anything whose name contains “${asked}”.` : 'Nobody holds a lock.'
          }}
        </p></template
      >
      <template #cell-statement="{ row }"
        ><span class="mono one-line" :title="row.statement">{{ row.statement }}</span></template
      >
    </DataTable>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
form {
  display: flex;
  gap: 8px;
  align-items: center;
}
input {
  font: inherit;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--rule);
  min-height: 24px;
  padding: 0 6px;
  width: 280px;
}
</style>
