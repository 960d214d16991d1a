<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ActionDialog from '../actions/ActionDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import { between, clock, counted, seconds } from '../format'
import { useSession } from '../stores/session'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import StatementLink from '../ui/StatementLink.vue'
import type { Column } from '../ui/table'
import DeadlockList from './DeadlockList.vue'
import HeldLocks from './HeldLocks.vue'
import HoldUpEntry from './HoldUpEntry.vue'
import WaitLengths from './WaitLengths.vue'

type HoldUp = Schemas['HoldUp']
/** Who held up whom in the window looked at, worst first: the same picture now and of any past. */
const { instance } = useInstance()
const news = useNews('activity')
const person = useSession()
const route = useRoute()
const router = useRouter()
const { window, key } = useWindow(news)
const id = computed(() => instance.value?.instance_id ?? 0)
const text = (name: string) => (route.query[name] ? String(route.query[name]) : undefined)
const ORDERS = [
  { value: 'lost', label: 'most time lost' },
  { value: 'waiting', label: 'most waiting' },
  { value: 'newest', label: 'newest' },
] as const
/** What the list is narrowed to, and how it is sorted, as the address has it. */
const narrowed = computed(() => ({
  table: text('table'),
  account: text('account'),
  family_id: text('waited'),
  order: ORDERS.find((order) => order.value === route.query.order)?.value ?? 'lost',
  brief: text('brief') === 'yes',
}))
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, ...change } })
}
const {
  loaded,
  data: all,
  reload,
} = useLoaded(
  () => `${id.value} ${key.value}`,
  [news, () => JSON.stringify(narrowed.value)],
  async () => {
    const path = { instance_id: id.value }
    const span = asQuery(window.value)
    const [held, deadlocks] = await Promise.all([
      answer(
        api.GET('/api/v1/instances/{instance_id}/hold-ups', {
          params: { path, query: { ...span, ...narrowed.value } },
        }),
      ),
      answer(api.GET('/api/v1/instances/{instance_id}/deadlocks', { params: { path, query: span } })),
    ])
    return { held, deadlocks }
  },
)
const data = computed(() => all.value?.held ?? null)
/** Which are drawn; the first is until somebody folds it. */
const folded = ref(new Map<string, boolean>())
const keyOf = (one: HoldUp) => `${one.holder.process} ${one.from}`
const isDrawn = (one: HoldUp, at: number) => folded.value.get(keyOf(one)) ?? at === 0
const turn = (one: HoldUp, at: number) => folded.value.set(keyOf(one), !isDrawn(one, at))
const chips = computed(() =>
  [
    { name: 'table', says: `waits for ${narrowed.value.table || 'no table'}`, isOn: narrowed.value.table },
    { name: 'account', says: `held by ${narrowed.value.account}`, isOn: narrowed.value.account },
    { name: 'waited', says: 'one statement that waited', isOn: narrowed.value.family_id },
  ].filter(({ isOn }) => isOn),
)
const isNarrowed = computed(() => chips.value.length > 0)
const mayAct = computed(
  () => person.current?.role === 'administrator' && instance.value?.engine === 'postgres',
)
const meant = ref<HoldUp | null>(null)

const lost = { key: 'lost', title: 'lost', number: true } as const
const TABLES: Column<Schemas['LostToTable']>[] = [
  { key: 'table', title: 'table', value: (row) => row.table || 'no table' },
  { key: 'mode', title: 'mode', value: (row) => row.mode },
  { key: 'waits', title: 'waits', number: true, value: (row) => row.waits },
  { ...lost, value: (row) => row.lost_seconds, text: (row) => seconds(row.lost_seconds) },
]
const STATEMENTS: Column<Schemas['LostToStatement']>[] = [
  { key: 'statement', title: 'statement that waited', wide: true, value: (row) => row.statement },
  { key: 'waits', title: 'waits', number: true, value: (row) => row.waits },
  { ...lost, value: (row) => row.lost_seconds, text: (row) => seconds(row.lost_seconds) },
]
const HOLDERS: Column<Schemas['LostToHolder']>[] = [
  { key: 'account', title: 'account that held', value: (row) => row.account },
  { key: 'program', title: 'program', value: (row) => row.program },
  { key: 'waits', title: 'waits', number: true, value: (row) => row.waits },
  { ...lost, value: (row) => row.lost_seconds, text: (row) => seconds(row.lost_seconds) },
]
/** Hold-ups that are not told one by one. */
const further = computed(() => {
  const known = data.value
  if (!known) return 0
  return known.count - known.hold_ups.length - (narrowed.value.brief ? 0 : known.brief.count)
})
</script>

<template>
  <div class="page-head">
    <h1>Blocking</h1>
    <span v-if="data" class="muted"
      >{{ counted(data.count, 'hold-up') }} · {{ between(window) }} · sessions lost
      {{ seconds(data.lost_seconds) }}</span
    >
    <span v-for="chip in chips" :key="chip.name" class="chip">
      {{ chip.says }}
      <button type="button" :aria-label="`Clear ${chip.says}`" @click="go({ [chip.name]: undefined })">
        ✕
      </button>
    </span>
    <label class="first"
      >Order
      <ChoiceSelect
        :model-value="narrowed.order"
        :options="ORDERS"
        @update:model-value="(order) => go({ order })"
    /></label>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="data">
    <p v-if="data.looks_since" class="muted before" data-test="looks-since">
      Of the time before {{ clock(data.looks_since, new Date()) }}, looks at the sessions are not kept one by
      one any more: here stand the hold-ups that cost {{ seconds(data.brief.under_seconds) }} or more, and
      <RouterLink :to="{ name: 'load', query: $route.query }">the load</RouterLink> has all waits.
    </p>
    <p v-if="data.count === 0 && data.looks === 0" class="sheet" data-test="hold-ups">
      {{
        data.looks_since
          ? 'No such hold-up is kept of this window.'
          : 'Nobody looked at the sessions in this window: nobody can say who held up whom then.'
      }}
    </p>
    <p v-else-if="data.count === 0" class="sheet" data-test="hold-ups">
      {{ isNarrowed ? 'No hold-up matches' : 'Nobody waited for a lock' }} in
      {{ counted(data.looks, 'look') }} at the sessions.
    </p>
    <template v-else>
      <section class="sheet">
        <HoldUpEntry
          v-for="(one, at) in data.hold_ups"
          :key="keyOf(one)"
          :hold-up="one"
          :is-open="isDrawn(one, at)"
          :may-end="mayAct"
          :are-looks-kept="!data.looks_since || one.to >= data.looks_since"
          @turn="turn(one, at)"
          @end="meant = one"
        />
        <p v-if="data.brief.count" class="brief muted">
          {{ counted(data.brief.count, 'brief hold-up') }} cost
          {{ seconds(data.brief.lost_seconds) }} together, under {{ data.brief.under_seconds }} s each.
          <Button size="small" @click="go({ brief: narrowed.brief ? undefined : 'yes' })">{{
            narrowed.brief ? 'Hide them' : 'Show them'
          }}</Button>
        </p>
      </section>
      <p v-if="further > 0" class="muted">
        {{ counted(further, 'further hold-up') }} {{ further === 1 ? 'is' : 'are' }} counted below only.
      </p>
      <section class="sheet tables">
        <div>
          <h2>By holder</h2>
          <DataTable
            name="holders"
            plain
            :rows="data.by_holder"
            :columns="HOLDERS"
            :row-key="(row) => `${row.account} ${row.program}`"
          >
            <template #cell-account="{ row }">
              <button type="button" class="plain narrow" @click="go({ account: row.account })">
                {{ row.account || 'not known' }}
              </button>
            </template>
          </DataTable>
        </div>
        <div>
          <h2>By table</h2>
          <DataTable
            name="tables"
            plain
            :rows="data.by_table"
            :columns="TABLES"
            :row-key="(row) => `${row.table} ${row.mode}`"
          >
            <template #cell-table="{ row }">
              <button v-if="row.table" type="button" class="plain narrow" @click="go({ table: row.table })">
                {{ row.table }}
              </button>
              <template v-else>no table</template>
            </template>
          </DataTable>
        </div>
        <div class="whole">
          <h2>Waits by length</h2>
          <WaitLengths :lengths="data.lengths" />
        </div>
        <div class="whole">
          <h2>By statement</h2>
          <DataTable
            name="statements"
            plain
            :rows="data.by_statement"
            :columns="STATEMENTS"
            :row-key="(row) => row.family_id ?? ''"
          >
            <template #cell-statement="{ row }">
              <StatementLink :family="row.family_id" :text="row.statement" />
            </template>
            <template #cell-waits="{ row }">
              <button
                v-if="row.family_id"
                type="button"
                class="plain narrow"
                title="Show hold-ups in which it waited only"
                @click="go({ waited: row.family_id })"
              >
                {{ row.waits }}
              </button>
              <template v-else>{{ row.waits }}</template>
            </template>
          </DataTable>
        </div>
      </section>
    </template>
    <DeadlockList v-if="all" :told="all.deadlocks" />
  </template>
  <HeldLocks v-if="instance && instance.engine !== 'bundle'" :instance-id="id" />
  <ActionDialog
    v-if="meant && meant.holder.started_at && instance"
    :instance-id="instance.instance_id"
    :asked="{ kind: 'end_session', process: meant.holder.process, started_at: meant.holder.started_at }"
    @close="meant = null"
    @done="reload"
  >
    {{ counted(meant.most_waiting, 'session') }} that {{ meant.most_waiting === 1 ? 'waits' : 'wait' }} behind
    it can go on.
  </ActionDialog>
</template>

<style scoped>
.first {
  margin-left: auto;
}
.brief {
  margin: 10px 0 0;
}
.tables {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 20px;
}
.whole {
  grid-column: 1 / -1;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
.before {
  margin: 0 0 6px;
}
</style>
