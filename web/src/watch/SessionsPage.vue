<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import ActionDialog from '../actions/ActionDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useSort } from '../composables/useSort'
import { counted, seconds } from '../format'
import { KINDS } from '../pictures/kinds'
import KindSwatch from '../pictures/KindSwatch.vue'
import ProblemNote from '../pictures/ProblemNote.vue'
import SortHead from '../pictures/SortHead.vue'
import { useSession } from '../stores/session'

type Row = Schemas['SessionOnServer']
/** Who is busy on the server right now, what holds whom up, and what an administrator may do about it. */
const { instance, news } = useInstance()
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
const { sorted, sorting } = useSort(() => sessions.value ?? [], {
  process: (row: Row) => row.process,
  who: (row: Row) => row.account,
  database: (row: Row) => row.database,
  doing,
  blocks: (row: Row) => row.blocks,
  transaction: (row: Row) => row.transaction_seconds ?? null,
  statement: (row: Row) => row.statement_seconds ?? null,
})
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
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="sessions" class="sheet">
    <p v-if="sessions.length === 0" class="muted">No session was busy at the last sample.</p>
    <table v-else class="figures" data-test="sessions">
      <thead>
        <tr>
          <SortHead :sorting="sorting" column="process" number>process</SortHead>
          <SortHead :sorting="sorting" column="who">account</SortHead>
          <SortHead :sorting="sorting" column="database">database</SortHead>
          <SortHead :sorting="sorting" column="doing">state</SortHead>
          <SortHead
            :sorting="sorting"
            column="blocks"
            number
            hint="sessions that wait behind it, directly or through others"
            >blocks</SortHead
          >
          <SortHead :sorting="sorting" column="transaction" number hint="age">transaction</SortHead>
          <SortHead :sorting="sorting" column="statement" number hint="age">statement</SortHead>
          <th class="wide">statement</th>
          <th v-if="mayAct" class="no-print"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in sorted" :key="`${row.process} ${row.started_at}`">
          <td class="number">{{ row.process || '' }}</td>
          <td>
            {{ row.account }}
            <div class="muted small">{{ [row.program, row.client].filter(Boolean).join(', ') }}</div>
          </td>
          <td>{{ row.database }}</td>
          <td class="doing">
            <KindSwatch v-if="position(row) >= 0" :kind="position(row)" />
            <span :class="{ open: position(row) < 0 }" :title="row.event ?? undefined">{{ doing(row) }}</span>
            <div v-if="row.blocked_by.length" class="muted small">{{ behind(row) }}</div>
          </td>
          <td class="number" :class="{ open: row.blocks > 0 }">{{ row.blocks || '' }}</td>
          <td class="number">{{ seconds(row.transaction_seconds ?? null) }}</td>
          <td class="number">{{ seconds(row.statement_seconds ?? null) }}</td>
          <td class="wide">
            <RouterLink
              v-if="row.family_id"
              class="mono one-line"
              :to="{ name: 'family', params: { family: row.family_id }, query: $route.query }"
              :title="row.statement ?? undefined"
              >{{ row.statement }}</RouterLink
            >
          </td>
          <td v-if="mayAct" class="acts no-print">
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
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
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
.doing {
  white-space: nowrap;
}
.doing svg {
  margin-right: 5px;
}
.open {
  color: var(--plum);
  font-weight: 700;
}
.wide {
  width: 100%;
  max-width: 0;
}
.acts {
  white-space: nowrap;
}
.acts button + button {
  margin-left: 6px;
}
</style>
