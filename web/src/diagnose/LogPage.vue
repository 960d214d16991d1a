<script setup lang="ts">
import { InputSearch } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useColumn } from '../composables/useColumn'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { useWindow } from '../composables/useWindow'
import { between, clock, count } from '../format'
import PageState from '../ui/PageState.vue'
import StripStack from '../pictures/StripStack.vue'
import DataTable from '../ui/DataTable.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'
import LogEntry from './LogEntry.vue'
import { KINDS_OF_LOG, logRows, logTitle, logValue } from './logRows'

/** The server's log: what was written when, by kind, and the entries themselves. */
type Row = Schemas['LogEntryFigures']
const PAGE_SIZE = 50
const ORDER = '-time'
const { instance } = useInstance()
const news = useNews('log')
const { window, key } = useWindow(news)
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)

const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
const kind = computed(() => KINDS_OF_LOG.find(({ kind }) => kind === text('kind'))?.kind)
const { order, page } = useTableState('log', ORDER)
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'log.page': undefined, ...change } })
}

const starts = computed(() => (data.value?.starts ?? []).map((at) => new Date(at)))
const { span, cells, choose } = useColumn(
  () => starts.value,
  () => data.value?.cell_seconds ?? 1,
)
/** What is asked for, but for the page. */
function asked() {
  return {
    from: window.value.from.toISOString(),
    to: window.value.to.toISOString(),
    kind: kind.value,
    search: text('search') || undefined,
    family_id: text('family') ? Number(text('family')) : undefined,
    account: text('account') || undefined,
    entries_from: span.value?.from.toISOString(),
    entries_to: span.value?.to.toISOString(),
    sort: order.value?.column as Schemas['LogOrder'] | undefined,
    ascending: order.value?.ascending ?? false,
  }
}
const ask = (query: ReturnType<typeof asked> & { page: number; page_size: number }) =>
  answer(
    api.GET('/api/v1/instances/{instance_id}/log', {
      params: { path: { instance_id: id.value }, query },
    }),
  )
const { loaded, data, reload } = useLoaded(
  () => JSON.stringify([id.value, key.value, { ...asked(), from: '', to: '' }, page.value]),
  news,
  () => ask({ ...asked(), page: page.value, page_size: PAGE_SIZE }),
)
const everyRow = () => {
  const same = asked()
  return everyPage(async (page, page_size) => {
    const { matching, entries } = await ask({ ...same, page, page_size })
    return { matching, rows: entries }
  })
}
const COLUMNS: Column<Row>[] = [
  {
    key: 'time',
    title: 'time',
    number: true,
    sorts: true,
    value: (row) => row.at,
    text: (row) => clock(row.at, new Date()),
  },
  { key: 'kind', title: 'kind', sorts: true, value: (row) => logTitle(row.kind) },
  {
    key: 'times',
    title: 'times',
    hint: 'lines of one reading that say the same',
    number: true,
    sorts: true,
    value: (row) => row.times,
    text: (row) => count(row.times),
  },
  { key: 'message', title: 'message', wide: true, sorts: true, value: (row) => row.message },
  { key: 'account', title: 'account', sorts: true, value: (row) => row.account },
]
const rows = computed(() => (data.value ? logRows(data.value.kinds) : []))
const limit = computed(() => instance.value?.limits.find((limit) => limit.figures === 'log'))
const chips = computed(() =>
  [
    {
      name: 'cell',
      says: span.value && between(span.value),
    },
    { name: 'kind', says: kind.value && logTitle(kind.value) },
    { name: 'account', says: text('account') && `account ${text('account')}` },
    { name: 'family', says: text('family') && 'one statement' },
  ].filter((chip) => chip.says),
)
/** What one kind of entries adds up to over the window. */
const sum = (kind: Schemas['LogKind']) => {
  const value = data.value?.kinds.find((one) => one.kind === kind)?.value
  return value == null ? '' : logValue(kind, value)
}
</script>

<template>
  <div class="page-head">
    <h1>Log</h1>
    <span class="muted"
      >Errors, deadlocks, lock waits, temp files, checkpoints and autovacuum, as the server logged them</span
    >
  </div>
  <div v-if="limit" class="sheet" role="note">
    <h2>The log of this server cannot be read</h2>
    <p>{{ limit.reason }}</p>
    <p class="remedy">{{ limit.remedy }}</p>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="data && rows.length > 0" class="sheet">
    <StripStack
      :starts="starts"
      :cell-seconds="data.cell_seconds"
      :rows="rows"
      :figure-heads="['entries']"
      :figures-of="`${between(window)}, the server's log`"
      :chosen="cells"
      :markers="[]"
      @choose="choose"
    />
  </div>
  <div v-if="data" class="page-head narrowing">
    <span v-for="chip in chips" :key="chip.name" class="chip">
      {{ chip.says }}
      <button type="button" :aria-label="`Clear ${chip.says}`" @click="go({ [chip.name]: undefined })">
        ✕
      </button>
    </span>
    <div class="kinds" role="group" aria-label="Kind of entries">
      <button
        v-for="one in data.kinds"
        :key="one.kind"
        type="button"
        :aria-pressed="kind === one.kind"
        :title="sum(one.kind)"
        @click="go({ kind: kind === one.kind ? undefined : one.kind })"
      >
        {{ logTitle(one.kind) }} {{ count(one.times) }}
      </button>
    </div>
    <InputSearch
      class="search"
      :default-value="text('search') ?? ''"
      placeholder="Search entries"
      allow-clear
      @search="(search: string) => go({ search: search || undefined })"
    />
  </div>
  <div v-if="data" class="sheet">
    <DataTable
      name="log"
      test="log"
      :rows="data.entries"
      :columns="COLUMNS"
      :row-key="(row) => `${row.at} ${row.process} ${row.family_id} ${row.message}`"
      :order="ORDER"
      :page-size="PAGE_SIZE"
      :matching="data.matching"
      one="entry"
      many="entries"
      :every-row="everyRow"
    >
      <template #empty
        ><p class="muted">
          {{
            chips.length || text('search')
              ? 'No entry of this window matches. Clear a filter or choose a longer window.'
              : 'The server logged nothing of note in this window.'
          }}
        </p></template
      >
      <template #cell-message="{ row }"><LogEntry :entry="row" /></template>
      <template #cell-account="{ row }">
        <button
          v-if="row.account"
          type="button"
          class="account"
          :title="`Only entries of ${row.account}`"
          @click="go({ account: row.account })"
        >
          {{ row.account }}
        </button>
      </template>
    </DataTable>
  </div>
</template>

<style scoped>
.narrowing {
  align-items: center;
}
.kinds {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.kinds button {
  font: inherit;
  font-size: 13px;
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: inherit;
  padding: 1px 8px;
  cursor: pointer;
}
.kinds button[aria-pressed='true'] {
  background: var(--plum);
  border-color: var(--plum);
  color: var(--on-plum);
}
.search {
  width: 260px;
  margin-left: auto;
}
.remedy {
  white-space: pre-wrap;
}
.account {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  padding: 0;
  cursor: pointer;
  text-decoration: underline dotted var(--muted);
  text-underline-offset: 3px;
}
</style>
