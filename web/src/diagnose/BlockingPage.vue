<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import ActionDialog from '../actions/ActionDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { useWindow } from '../composables/useWindow'
import { ago, between, clock, counted, seconds } from '../format'
import { useSession } from '../stores/session'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import HoldUpLanes from './HoldUpLanes.vue'
import { whose } from './lanes'

type HoldUp = Schemas['HoldUp']
/** Who held up whom in the window looked at, worst first: the same picture now and of any past. */
const { instance } = useInstance()
const news = useNews('activity')
const person = useSession()
const { window, key } = useWindow(news)
const id = computed(() => instance.value?.instance_id ?? 0)
const { loaded, reload } = useLoaded(
  () => `${id.value} ${key.value}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/hold-ups', {
        params: {
          path: { instance_id: id.value },
          query: { from: window.value.from.toISOString(), to: window.value.to.toISOString() },
        },
      }),
    ),
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
/** Which are drawn; the worst is until somebody folds it. */
const folded = ref(new Map<string, boolean>())
const keyOf = (one: HoldUp) => `${one.holder.process} ${one.from}`
const isDrawn = (one: HoldUp, at: number) => folded.value.get(keyOf(one)) ?? at === 0
const turn = (one: HoldUp, at: number) => folded.value.set(keyOf(one), !isDrawn(one, at))
const told = (one: HoldUp) =>
  one.is_circle
    ? `${counted(one.most_waiting, 'session')} waited for each other`
    : `held up ${counted(one.most_waiting, 'session')}${one.depth > 1 ? `, ${one.depth} deep` : ''}`
/** What costs less is daily life: a short wait of one session. It is told together, and one by one where asked for. */
const BRIEF_SECONDS = 5
const showsBrief = ref(false)
const isBrief = (one: HoldUp) => one.lost_seconds < BRIEF_SECONDS && !one.goes_on && !one.is_circle
const brief = computed(() => data.value?.hold_ups.filter(isBrief) ?? [])
const shown = computed(() => (data.value?.hold_ups ?? []).filter((one) => showsBrief.value || !isBrief(one)))
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
</script>

<template>
  <div class="page-head">
    <h1>Blocking</h1>
    <span v-if="data" class="muted"
      >{{ counted(data.count, 'hold-up') }} · {{ between(window) }} · sessions lost
      {{ seconds(data.lost_seconds) }}</span
    >
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="data">
    <p v-if="data.looks === 0" class="sheet" data-test="hold-ups">
      No look at the sessions of this window is kept one by one: nobody can say who held up whom then.
    </p>
    <p v-else-if="data.count === 0" class="sheet" data-test="hold-ups">
      Nobody waited for a lock in {{ counted(data.looks, 'look') }} at the sessions.
    </p>
    <template v-else>
      <section class="sheet">
        <article v-for="(one, at) in shown" :key="keyOf(one)" data-test="hold-ups">
          <div class="head">
            <button
              type="button"
              :aria-expanded="isDrawn(one, at)"
              :title="isDrawn(one, at) ? 'Fold' : 'Show who waited'"
              @click="turn(one, at)"
            >
              <span class="mark" aria-hidden="true">{{ isDrawn(one, at) ? '▾' : '▸' }}</span>
              <b>{{ one.is_prepared ? one.holder.program : whose(one.holder) }}</b>
              {{ told(one) }}
            </button>
            <span v-if="one.goes_on" class="goes-on">goes on, since {{ clock(one.from, new Date()) }}</span>
            <span v-else class="muted"
              >{{ clock(one.from, new Date()) }} to {{ clock(one.to, new Date()) }}</span
            >
            <span class="lost">{{ seconds(one.lost_seconds) }} lost</span>
            <Button v-if="mayAct && one.goes_on && !one.is_prepared" size="small" @click="meant = one"
              >End the holder …</Button
            >
            <span v-else-if="one.goes_on && !one.is_prepared" class="muted small"
              >an administrator may end the holder</span
            >
          </div>
          <template v-if="isDrawn(one, at)">
            <p v-if="one.transaction_started_at || one.statement" class="facts">
              <template v-if="one.transaction_started_at"
                >Transaction open since {{ ago(one.transaction_started_at, new Date()) }}.
              </template>
              <RouterLink
                v-if="one.family_id"
                class="mono"
                :to="{ name: 'family', params: { family: one.family_id }, query: $route.query }"
                >{{ one.statement }}</RouterLink
              >
            </p>
            <HoldUpLanes :hold-up="one" />
          </template>
        </article>
        <p v-if="brief.length" class="brief muted">
          {{ counted(brief.length, 'brief hold-up') }} cost
          {{ seconds(brief.reduce((sum, one) => sum + one.lost_seconds, 0)) }} together, under
          {{ BRIEF_SECONDS }} s each.
          <Button size="small" @click="showsBrief = !showsBrief">{{
            showsBrief ? 'Hide them' : 'Show them'
          }}</Button>
        </p>
      </section>
      <p v-if="data.count > data.hold_ups.length" class="muted">
        {{ counted(data.count - data.hold_ups.length, 'further hold-up') }} cost less and are counted below
        only.
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
          />
        </div>
        <div>
          <h2>By table</h2>
          <DataTable
            name="tables"
            plain
            :rows="data.by_table"
            :columns="TABLES"
            :row-key="(row) => `${row.table} ${row.mode}`"
          />
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
              <RouterLink
                v-if="row.family_id"
                class="mono one-line"
                :to="{ name: 'family', params: { family: row.family_id }, query: $route.query }"
                :title="row.statement ?? undefined"
                >{{ row.statement }}</RouterLink
              >
            </template>
          </DataTable>
        </div>
      </section>
    </template>
  </template>
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
article + article {
  border-top: 1px solid var(--rule);
  margin-top: 8px;
  padding-top: 8px;
}
.brief {
  margin: 10px 0 0;
}
.mark {
  display: inline-block;
  width: 16px;
}
.head {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
.head button:first-child {
  border: 0;
  padding: 0;
  min-height: 24px;
  background: none;
  font: inherit;
  color: inherit;
  text-align: left;
  cursor: pointer;
}
.goes-on {
  color: var(--plum);
  font-weight: 700;
}
.lost {
  margin-left: auto;
}
.facts {
  margin: 2px 0 8px;
}
.small {
  font-size: 12.5px;
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
</style>
