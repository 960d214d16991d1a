<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref, shallowRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ActionDialog from '../actions/ActionDialog.vue'
import SeveralDialog from '../actions/SeveralDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { usePlainLinks } from '../composables/usePlainLinks'
import { typedMoment } from '../composables/typedTime'
import { bytes, clock, count, counted, inUtc, seconds } from '../format'
import HeldBack from '../pictures/HeldBack.vue'
import { KINDS } from '../pictures/kinds'
import KindSwatch from '../pictures/KindSwatch.vue'
import { useSession } from '../stores/session'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import { GROUPS, grouped, inLines, type GroupBy } from './sessionGroups'

type Row = Schemas['SessionOnServer']
/** Who is, or was, busy on the server, what holds whom up, and what an administrator may do about it. */
const { instance } = useInstance()
const news = useNews('activity')
const person = useSession()
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
/** The moment that is looked at; nothing for now. */
const at = computed(() => {
  const moment = new Date(String(route.query.at ?? ''))
  return Number.isNaN(moment.getTime()) ? null : moment
})
/** A look is told to the microsecond, which a moment of the browser cuts off: the look before would be shown. */
const EXACT = /^\d{4}-\d\d-\d\dT[\d:.]+Z$/
const asked = computed(() => {
  const text = String(route.query.at ?? '')
  return at.value && EXACT.test(text) ? text : at.value?.toISOString()
})
const isFrozen = ref(false)
/** What is frozen, or past, stays as it is. */
const again = ref(0)
const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${at.value?.getTime() ?? ''}`,
  () => (isFrozen.value || at.value ? again.value : news.value),
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/sessions', {
        params: { path: { instance_id: id.value }, query: { at: asked.value } },
      }),
    ),
)
/** What only the server itself tells, and only now: its own processes, and what each session holds back of vacuum. */
const { loaded: processesLoaded, data: processes } = useLoaded(
  () => `${id.value} ${at.value?.getTime() ?? ''}`,
  () => (isFrozen.value || at.value ? again.value : news.value),
  async () =>
    at.value
      ? null
      : answer(
          api.GET('/api/v1/instances/{instance_id}/processes', {
            params: { path: { instance_id: id.value } },
          }),
        ),
)
const heldBack = computed(
  () =>
    new Map(processes.value?.snapshots.map((one) => [`${one.process} ${one.started_at}`, one.transactions])),
)
/** What processes of the server took of the host within the last second, by their number. */
const onHost = computed(() => new Map(processes.value?.host?.of_server.map((one) => [one.process, one])))
const host = computed(() => processes.value?.host)
/** Processors kept busy, as a column of them is read best. */
const cores = (value: number | undefined) => value?.toFixed(2) ?? ''
const keyOf = (row: Row) => `${row.process} ${row.started_at}`
const isTree = computed(() => route.query.lines === 'yes')
const sessions = computed(() => {
  const all = data.value?.sessions ?? []
  return isTree.value ? inLines(all) : all
})
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, ...change } })
}
/** What was typed that is no moment, with what is wrong with it. */
const fault = ref('')
function lookAt(event: Event): void {
  const typed = (event.target as HTMLInputElement).value
  const found = typed.trim() ? typedMoment(typed, new Date(), inUtc.value) : undefined
  fault.value = typeof found === 'string' ? found : ''
  if (typeof found !== 'string') go({ at: found?.toISOString() })
}

const position = (row: Row) => KINDS.findIndex((kind) => kind.key === row.wait_kind)
const doing = (row: Row) => KINDS[position(row)]?.label ?? 'idle in transaction'
const COLUMNS: Column<Row>[] = [
  { key: 'process', title: 'process', value: (row) => row.process || null },
  { key: 'account', title: 'account', value: (row) => row.account },
  { key: 'program', title: 'program', value: (row) => row.program },
  { key: 'client', title: 'client', value: (row) => row.client, aside: true },
  { key: 'database', title: 'database', value: (row) => row.database, aside: true },
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
    key: 'holds_back',
    title: 'holds back',
    aside: true,
    hint: 'transactions since the oldest row version that it may still see: vacuum keeps what died later',
    number: true,
    value: (row) => heldBack.value.get(keyOf(row)) ?? null,
    text: (row) => count(heldBack.value.get(keyOf(row))),
  },
  {
    key: 'cores',
    title: 'CPU',
    hint: 'processors that its process kept busy within the last second; parallel workers are processes of their own',
    number: true,
    value: (row) => onHost.value.get(row.process)?.cores ?? null,
    text: (row) => cores(onHost.value.get(row.process)?.cores),
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
const PROCESSES: Column<Schemas['ProcessOnServer']>[] = [
  { key: 'process', title: 'process', value: (row) => row.process },
  { key: 'kind', title: 'what it is', value: (row) => row.kind },
  { key: 'database', title: 'database', value: (row) => row.database },
  {
    key: 'state',
    title: 'state',
    value: (row) => (row.is_idle ? 'waits for work' : (row.event ?? 'works')),
  },
  {
    key: 'cores',
    title: 'CPU',
    hint: 'processors that it kept busy within the last second',
    number: true,
    value: (row) => onHost.value.get(row.process)?.cores ?? null,
    text: (row) => cores(onHost.value.get(row.process)?.cores),
  },
  {
    key: 'age',
    title: 'age',
    number: true,
    value: (row) => row.seconds,
    text: (row) => seconds(row.seconds),
  },
  { key: 'text', title: 'what it does', wide: true, value: (row) => row.text },
]
const OTHERS: Column<Schemas['ProcessOnHost']>[] = [
  { key: 'process', title: 'process', value: (row) => row.process },
  { key: 'name', title: 'name', value: (row) => row.name },
  {
    key: 'cores',
    title: 'CPU',
    hint: 'processors that it kept busy within the last second',
    number: true,
    value: (row) => row.cores,
    text: (row) => cores(row.cores),
  },
  {
    key: 'memory',
    title: 'memory',
    hint: 'memory in use, what it shares with others counted in full',
    number: true,
    value: (row) => row.memory_bytes,
    text: (row) => bytes(row.memory_bytes),
  },
]
/** Of a queue the first are enough: the others wait for these. */
const behind = (row: Row) => {
  const [first, ...others] = row.blocked_by
  const who = first === 0 ? 'a prepared transaction' : first
  return `behind ${who}${others.length ? ` and ${others.length} more` : ''}`
}

const by = computed(() => GROUPS.find((group) => group === route.query.by))
const nameOf = (row: Row, of: GroupBy) => (of === 'state' ? doing(row) : row[of])
const groups = computed(() => {
  const of = by.value
  return of ? grouped(sessions.value, (row) => nameOf(row, of)) : []
})

const { hrefOf, follow } = usePlainLinks()
/** Whoever may end sessions has each in a place of its own: a button never becomes another session's under the hand. */
const mayAct = computed(
  () => person.current?.role === 'administrator' && instance.value?.engine === 'postgres' && !at.value,
)
const meant = ref<{ session: Row; kind: 'cancel_statement' | 'end_session' } | null>(null)
/** Sessions that pass the filters, and those of them that are to be ended together. */
const matching = shallowRef<readonly Row[]>([])
const endable = computed(() => matching.value.filter((row) => row.process !== 0))
const several = shallowRef<readonly Row[] | null>(null)
</script>

<template>
  <div class="page-head">
    <h1>Sessions</h1>
    <span v-if="data" class="muted"
      >{{ counted(data.sessions.length, 'session') }} not idle
      <template v-if="data.looked_at">at {{ clock(data.looked_at, new Date(), true) }}</template></span
    >
    <label class="first"
      >At
      <input
        name="moment"
        :value="at ? clock(at, new Date(), true) : ''"
        placeholder="now, or 03:12:40"
        :aria-invalid="fault !== ''"
        @change="lookAt"
    /></label>
    <Button v-if="at" size="small" @click="go({ at: undefined })">Now</Button>
    <label v-else><input v-model="isFrozen" type="checkbox" /> Freeze</label>
    <label
      ><input
        type="checkbox"
        :checked="isTree"
        @change="go({ lines: isTree ? undefined : 'yes', 'sessions.page': undefined })"
      />
      Only those who wait or hold, in line</label
    >
    <label
      >Count by
      <ChoiceSelect
        :model-value="by"
        :options="[
          { value: undefined, label: 'nothing' },
          ...GROUPS.map((value) => ({ value, label: value })),
        ]"
        @update:model-value="(by) => go({ by })"
    /></label>
  </div>
  <p v-if="fault" role="alert" class="open">{{ fault }}</p>
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="by && groups.length" class="sheet groups" data-test="session-groups">
    <button
      v-for="group in groups"
      :key="group.name"
      type="button"
      :title="`Show these only; the oldest transaction is ${seconds(group.oldest)} old`"
      @click="go({ [`sessions.is.${by}`]: group.name || undefined })"
    >
      <b>{{ group.name || `no ${by}` }}</b> {{ group.count }}
      <span v-if="group.waiting" class="open">{{ group.waiting }} waiting</span>
    </button>
  </div>
  <div v-if="data" class="sheet" @click="follow">
    <DataTable
      name="sessions"
      test="sessions"
      one="session"
      :rows="sessions"
      :columns="COLUMNS"
      :row-key="keyOf"
      :in-place="!mayAct"
      @matching="(rows) => (matching = rows)"
    >
      <template v-if="mayAct && endable.length > 1" #tools>
        <Button size="small" @click="several = endable"
          >End {{ counted(endable.length, 'session') }} …</Button
        >
      </template>
      <template #empty
        ><p class="muted">
          {{
            isTree && data.sessions.length
              ? 'Nobody waits for a lock.'
              : at
                ? 'No session was busy then, or nobody looked.'
                : 'No session was busy at the last sample.'
          }}
        </p></template
      >
      <template #cell-process="{ row }"
        ><span :style="isTree ? { paddingLeft: `${row.depth * 14}px` } : undefined">{{
          row.process || ''
        }}</span></template
      >
      <template #cell-state="{ row }">
        <KindSwatch v-if="position(row) >= 0" :kind="position(row)" class="swatch" />
        <span :class="{ open: position(row) < 0 }" :title="row.event ?? undefined">{{ doing(row) }}</span>
        <div v-if="row.blocked_by.length" class="muted small" :title="row.awaits ?? undefined">
          {{ behind(row) }}
        </div>
      </template>
      <template #cell-blocks="{ row }">
        <span :class="{ open: row.blocks > 0 }">{{ row.blocks || '' }}</span>
      </template>
      <template #cell-statement="{ row }">
        <a
          v-if="row.family_id"
          class="mono one-line"
          data-plain
          :href="hrefOf('family', 'family', row.family_id)"
          :title="row.statement ?? undefined"
          >{{ row.statement }}</a
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
    <p v-if="data?.unasked" class="muted small foot">
      {{ counted(data.unasked, 'session') }} more wait than the server is asked about: who holds them up is
      taken from others who wait for the same lock.
    </p>
    <p v-if="person.current?.role !== 'administrator' && !at" class="muted small foot">
      An administrator may cancel statements and end sessions.
    </p>
  </div>
  <section v-if="data && !at" class="sheet">
    <h2>What holds vacuum back</h2>
    <HeldBack :held="data.held_back_by" />
  </section>
  <section v-if="processes?.background.length" class="sheet" data-test="processes">
    <h2>Processes of the server itself</h2>
    <DataTable
      name="processes"
      one="process"
      many="processes"
      :rows="processes.background"
      :columns="PROCESSES"
      :row-key="(row) => `${row.process} ${row.kind}`"
    />
  </section>
  <p v-if="processesLoaded.state === 'failed'" class="muted small" role="alert">
    The server did not tell its processes: {{ processesLoaded.problem.detail }}
  </p>
  <p v-else-if="processes && !host" class="muted small" data-test="no-host">
    What else runs on the host is not seen:
    <RouterLink :to="{ name: 'collection' }">Collection</RouterLink> says what would show it.
  </p>
  <section v-if="host" class="sheet" data-test="host-processes">
    <h2>Other processes of the host</h2>
    <p class="muted small">
      Within the last second this server kept <b>{{ cores(host.server_cores) }}</b> of the host's processors
      busy, all others <b>{{ cores(host.other_cores) }}</b>.
      <template v-if="host.others_count > host.others.length"
        >These are the {{ host.others.length }} busiest of {{ host.others_count }}.</template
      >
    </p>
    <DataTable
      name="others"
      one="process"
      many="processes"
      :rows="host.others"
      :columns="OTHERS"
      :row-key="(row) => row.process"
    />
  </section>
  <ActionDialog
    v-if="meant && instance"
    :instance-id="instance.instance_id"
    :asked="{ kind: meant.kind, process: meant.session.process, started_at: meant.session.started_at }"
    @close="meant = null"
    @done="reload"
  >
    <template v-if="meant.session.blocks"
      >{{ counted(meant.session.blocks, 'session') }} that
      {{ meant.session.blocks === 1 ? 'waits' : 'wait' }} behind it can go on.</template
    >
  </ActionDialog>
  <SeveralDialog
    v-if="several && instance"
    :instance-id="instance.instance_id"
    :sessions="several"
    @close="several = null"
    @done="reload"
  />
</template>

<style scoped>
.first {
  margin-left: auto;
}
.page-head input[name='moment'] {
  font: inherit;
  font-size: 12.5px;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  min-height: 24px;
}
:deep(td) {
  white-space: nowrap;
}
.groups {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.groups button {
  border: 1px solid var(--rule);
  background: var(--paper);
  color: inherit;
  font: inherit;
  min-height: 24px;
  padding: 0 8px;
  cursor: pointer;
}
.swatch {
  margin-right: 5px;
}
.open {
  color: var(--warn);
  font-weight: 700;
}
.small {
  font-size: 12.5px;
}
.acts {
  display: flex;
  gap: 4px;
  justify-content: end;
}
.foot {
  margin: 6px 0 0;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
</style>
