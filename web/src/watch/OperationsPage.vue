<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import ActionDialog from '../actions/ActionDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLive } from '../composables/useLive'
import { useLoaded } from '../composables/useLoaded'
import { bytes, clock, count, counted, number, percent, seconds, secondsBetween } from '../format'
import HeldBack from '../pictures/HeldBack.vue'
import { useSession } from '../stores/session'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'

/** Long work of a server with how far it is and how long it will take yet, and what its own vacuum takes next. */
type Operation = Schemas['LongOperation']
type Queued = Schemas['QueuedTable']
const { instance } = useInstance()
const person = useSession()
const id = computed(() => instance.value?.instance_id ?? 0)
const { tick, isFrozen } = useLive()
const { loaded, data, reload } = useLoaded(id, tick, () =>
  answer(
    api.GET('/api/v1/instances/{instance_id}/operations', { params: { path: { instance_id: id.value } } }),
  ),
)
const KINDS: Record<Operation['kind'], string> = {
  vacuum: 'VACUUM',
  rewrite: 'rewriting',
  create_index: 'CREATE INDEX',
  analyze: 'ANALYZE',
  copy: 'COPY',
  base_backup: 'base backup',
}
const what = (one: Operation) =>
  [one.is_automatic ? `auto${KINDS[one.kind].toLowerCase()}` : KINDS[one.kind], one.table].join(' ').trim()
const amount = (value: number, unit: Operation['unit']) =>
  unit === 'bytes' ? bytes(value) : `${count(Math.round(value))} ${unit}`
function left(one: Operation): string {
  if (one.left_seconds == null)
    return one.total == null ? 'the server does not tell its end' : 'being measured'
  return secondsBetween(one.left_least ?? 0, one.left_most ?? 0)
}
const DUE_FOR: Record<Queued['due_for'], string> = {
  age: 'transaction ID age',
  dead_rows: 'dead rows',
  inserted_rows: 'inserted rows',
  planner_statistics: 'planner statistics',
}
const QUEUE: Column<Queued>[] = [
  { key: 'table', title: 'table', value: (row) => row.table },
  { key: 'due_for', title: 'next for', value: (row) => DUE_FOR[row.due_for] },
  {
    key: 'reached',
    title: 'reached',
    hint: 'of what makes it due',
    number: true,
    value: (row) => row.reached,
    text: (row) => percent(row.reached),
  },
  {
    key: 'counted',
    title: 'counted',
    number: true,
    value: (row) => row.counted,
    text: (row) => count(Math.round(row.counted)),
  },
  {
    key: 'due_at',
    title: 'due at',
    number: true,
    value: (row) => row.due_at,
    text: (row) => count(Math.round(row.due_at)),
  },
  {
    key: 'size',
    title: 'size',
    number: true,
    value: (row) => row.size_bytes,
    text: (row) => bytes(row.size_bytes),
  },
]
const mayAct = computed(
  () => person.current?.role === 'administrator' && instance.value?.engine === 'postgres',
)
const meant = ref<Operation | null>(null)
</script>

<template>
  <div class="page-head">
    <h1>Long operations</h1>
    <span v-if="data" class="muted"
      >{{ counted(data.operations.length, 'operation') }} at {{ clock(data.at, new Date(), true) }}, by the
      server’s clock</span
    >
    <label class="freeze"><input v-model="isFrozen" type="checkbox" /> Freeze</label>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="data">
    <section class="sheet" data-test="operations">
      <p v-if="data.operations.length === 0">
        No vacuum, index build, copy, base backup or other long operation goes on.
      </p>
      <article v-for="one in data.operations" :key="`${one.process} ${one.started_at} ${one.table}`">
        <div class="head">
          <b>{{ what(one) }}</b>
          <span class="muted">
            process {{ one.process }}<template v-if="one.account">, {{ one.account }}</template
            ><template v-if="one.database">, database {{ one.database }}</template>
          </span>
          <span v-if="one.blocked_by.length" class="waits"
            >waits behind
            <RouterLink :to="{ name: 'blocking', query: { last: '5m' } }"
              >process {{ one.blocked_by.join(', ') }}</RouterLink
            ></span
          >
          <span class="since">goes on for {{ seconds(one.seconds) }}</span>
          <Button v-if="mayAct && !one.is_automatic" size="small" @click="meant = one">Cancel …</Button>
        </div>
        <div class="line">
          <span class="phase">{{ one.phase }}</span>
          <div
            class="bar"
            role="progressbar"
            :aria-valuenow="one.share == null ? undefined : Math.round(one.share * 100)"
            aria-valuemin="0"
            aria-valuemax="100"
            :aria-label="what(one)"
          >
            <i v-if="one.share != null" :style="{ width: `${one.share * 100}%` }" />
          </div>
          <span class="figure">{{ one.share == null ? '–' : percent(one.share) }}</span>
        </div>
        <p class="facts">
          {{ amount(one.done, one.unit)
          }}<template v-if="one.total != null"> of {{ amount(one.total, one.unit) }}</template
          ><template v-if="one.per_second != null">
            ·
            {{
              one.unit === 'bytes' ? bytes(one.per_second) : `${number(one.per_second)} ${one.unit}`
            }}/s</template
          >
          · this phase ends in: <b>{{ left(one) }}</b>
        </p>
      </article>
    </section>
    <section class="sheet">
      <h2>What holds vacuum back</h2>
      <HeldBack :held="data.held_back_by" />
    </section>
    <section class="sheet" data-test="upkeep">
      <div class="head">
        <h2>Next for autovacuum</h2>
        <span class="muted"
          >{{ data.workers }} of {{ counted(data.most_workers, 'worker') }} busy ·
          {{ counted(data.due, 'table') }} due</span
        >
      </div>
      <p v-if="!data.is_automatic" class="warn">
        autovacuum is off: the server vacuums tables for their transaction ID age only.
      </p>
      <DataTable
        name="upkeep"
        one="table"
        order="-reached"
        :rows="data.queue"
        :columns="QUEUE"
        :page-size="20"
        :row-key="(row) => row.table"
        :row-class="(row) => (row.is_due ? 'due' : undefined)"
      >
        <template #empty><p class="muted">No table is known in the connected database.</p></template>
        <template #cell-table="{ row }">
          {{ row.table }}
          <span v-if="!row.is_automatic" class="muted small">autovacuum_enabled is off</span>
        </template>
      </DataTable>
    </section>
  </template>
  <ActionDialog
    v-if="meant && instance"
    :instance-id="instance.instance_id"
    :asked="{ kind: 'cancel_statement', process: meant.process, started_at: meant.started_at }"
    @close="meant = null"
    @done="reload"
  >
    What {{ what(meant) }} has done so far is lost.
  </ActionDialog>
</template>

<style scoped>
article + article {
  border-top: 1px solid var(--rule);
  margin-top: 8px;
  padding-top: 8px;
}
.freeze {
  margin-left: auto;
}
.head {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
.since {
  margin-left: auto;
}
.waits {
  color: var(--warn);
}
.line {
  display: grid;
  grid-template-columns: 240px 1fr 60px;
  gap: 10px;
  align-items: center;
  margin-top: 4px;
}
.bar {
  height: 12px;
  background: var(--sunk);
  border-bottom: 1px solid var(--ink);
}
.bar i {
  display: block;
  height: 100%;
  background: var(--plum);
}
.figure {
  text-align: right;
}
.facts {
  margin: 2px 0 0;
  font-size: 13px;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
.small {
  font-size: 12.5px;
}
.warn {
  color: var(--warn);
}
:deep(tr.due td:first-child) {
  font-weight: 700;
}
</style>
