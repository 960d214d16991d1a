<script setup lang="ts">
import { InputSearch, Pagination } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useColumn } from '../composables/useColumn'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useWindow } from '../composables/useWindow'
import { clock, count } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import StripStack from '../pictures/StripStack.vue'
import LogEntry from './LogEntry.vue'
import { KINDS_OF_LOG, logRows, logValue } from './logRows'

/** The server's log: what was written when, by kind, and the entries themselves. */
const PAGE_SIZE = 50
const { instance, news } = useInstance()
const { window, key } = useWindow()
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)

const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
const kind = computed(() => KINDS_OF_LOG.find(({ kind }) => kind === text('kind'))?.kind)
const page = computed(() => Math.max(1, Number(text('page')) || 1))
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, page: undefined, ...change } })
}

const starts = computed(() => (data.value?.strips.starts ?? []).map((at) => new Date(at)))
const { span, cells, choose } = useColumn(
  () => starts.value,
  () => data.value?.strips.cell_seconds ?? 1,
)
const narrowed = computed(() =>
  ['kind', 'search', 'family', 'account', 'cell', 'page'].map((name) => text(name) ?? '').join('\n'),
)
const { loaded, reload } = useLoaded(
  () => `${id.value} ${key.value} ${narrowed.value}`,
  news,
  async () => {
    const path = { instance_id: id.value }
    const whole = { from: window.value.from.toISOString(), to: window.value.to.toISOString() }
    const narrow = {
      kind: kind.value,
      search: text('search') || undefined,
      family_id: text('family') ? Number(text('family')) : undefined,
      account: text('account') || undefined,
      page: page.value,
      page_size: PAGE_SIZE,
    }
    const ask = (query: typeof whole) =>
      answer(
        api.GET('/api/v1/instances/{instance_id}/log', { params: { path, query: { ...query, ...narrow } } }),
      )
    const [strips, list] = await Promise.all([
      ask(whole),
      span.value ? ask({ from: span.value.from.toISOString(), to: span.value.to.toISOString() }) : null,
    ])
    return { strips, list: list ?? strips }
  },
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const rows = computed(() => (data.value ? logRows(data.value.strips.kinds) : []))
const limit = computed(() => instance.value?.limits.find((limit) => limit.figures === 'log'))
const chips = computed(() =>
  [
    {
      name: 'cell',
      says: span.value && `${clock(span.value.from, new Date())} – ${clock(span.value.to, new Date())}`,
    },
    { name: 'kind', says: KINDS_OF_LOG.find((one) => one.kind === kind.value)?.title },
    { name: 'account', says: text('account') && `account ${text('account')}` },
    { name: 'family', says: text('family') && 'one statement' },
  ].filter((chip) => chip.says),
)
/** What one kind of entries adds up to over the window. */
const sum = (kind: Schemas['LogKind']) => {
  const value = data.value?.strips.kinds.find((one) => one.kind === kind)?.value
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
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="data && rows.length > 0" class="sheet">
    <StripStack
      :starts="starts"
      :cell-seconds="data.strips.cell_seconds"
      :rows="rows"
      :figure-heads="['entries']"
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
        v-for="one in data.strips.kinds"
        :key="one.kind"
        type="button"
        :aria-pressed="kind === one.kind"
        :title="sum(one.kind)"
        @click="go({ kind: kind === one.kind ? undefined : one.kind })"
      >
        {{ KINDS_OF_LOG.find((known) => known.kind === one.kind)?.title }} {{ count(one.times) }}
      </button>
    </div>
    <InputSearch
      class="search"
      :default-value="text('search') ?? ''"
      placeholder="message, account or statement"
      allow-clear
      @search="(search: string) => go({ search: search || undefined })"
    />
  </div>
  <div v-if="data" class="sheet">
    <p v-if="data.list.matching === 0" class="muted">
      {{
        chips.length || text('search')
          ? 'No entry of this window matches. Clear a filter or choose a longer window.'
          : 'The server logged nothing of note in this window.'
      }}
    </p>
    <table v-else class="figures" data-test="log">
      <thead>
        <tr>
          <th>time</th>
          <th>kind</th>
          <th class="number" title="lines of one reading that say the same">times</th>
          <th class="wide">message</th>
          <th>account</th>
        </tr>
      </thead>
      <tbody>
        <LogEntry
          v-for="(entry, i) in data.list.entries"
          :key="`${entry.at} ${i}`"
          :entry="entry"
          @account="(account) => go({ account })"
        />
      </tbody>
    </table>
    <div v-if="data.list.matching > 0" class="foot">
      <span class="muted">{{ count(data.list.matching) }} entries match</span>
      <Pagination
        v-if="data.list.matching > PAGE_SIZE"
        :current="page"
        :page-size="PAGE_SIZE"
        :total="data.list.matching"
        :show-size-changer="false"
        size="small"
        @change="(to: number) => go({ page: String(to) })"
      />
    </div>
  </div>
  <p v-else-if="loaded.state === 'loading'" class="muted">Loading …</p>
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
.wide {
  width: 100%;
}
.foot {
  display: flex;
  justify-content: space-between;
  padding-top: 8px;
}
</style>
