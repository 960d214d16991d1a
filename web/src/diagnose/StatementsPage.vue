<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core'
import { Pagination } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useWindow } from '../composables/useWindow'
import { clock, count, milliseconds, percent, seconds, source, timesAs } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'

type SortBy = Schemas['SortBy']
const COLUMNS: { sort: SortBy; title: string; hint: string }[] = [
  { sort: 'calls', title: 'calls', hint: 'executions that ended in the window' },
  { sort: 'time', title: 'time', hint: 'time executing, all calls together' },
  { sort: 'mean', title: 'mean', hint: 'time per call' },
  { sort: 'pages', title: 'pages', hint: 'pages touched, in cache or out of it' },
  { sort: 'rows', title: 'rows', hint: 'rows returned or changed' },
]
const PAGE_SIZE = 25

const { instance, news } = useInstance()
const { window, key } = useWindow()
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
const sort = computed(
  () =>
    (COLUMNS.find((column) => column.sort === route.query.sort)?.sort ??
      (route.query.sort === 'text' ? 'text' : 'time')) as SortBy,
)
const ascending = computed(() => route.query.up === '1')
const page = computed(() => Math.max(1, Number(route.query.page) || 1))
const search = ref(String(route.query.search ?? ''))

function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, page: undefined, ...change } })
}
function sortBy(column: SortBy): void {
  const same = sort.value === column
  const up = same ? !ascending.value : column === 'text'
  go({ sort: column, up: up ? '1' : undefined })
}
const find = useDebounceFn(() => go({ search: search.value || undefined }), 250)

const { loaded, reload } = useLoaded(
  () => [id.value, key.value, sort.value, ascending.value, page.value, route.query.search].join(' '),
  news,
  async () => {
    const path = { instance_id: id.value }
    const query = {
      from: window.value.from.toISOString(),
      to: window.value.to.toISOString(),
      sort: sort.value,
      ascending: ascending.value,
      search: String(route.query.search ?? ''),
      page: page.value,
      page_size: PAGE_SIZE,
    }
    const [list, changes] = await Promise.all([
      answer(api.GET('/api/v1/instances/{instance_id}/statements', { params: { path, query } })),
      answer(api.GET('/api/v1/instances/{instance_id}/changes', { params: { path } })),
    ])
    const holding = changes.filter((change) => change.change.until == null)
    return { list, changes: new Map(holding.map((change) => [change.family_id, change.change])) }
  },
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const limit = computed(() => instance.value?.limits.find((limit) => limit.figures === 'statements'))
</script>

<template>
  <div class="page-head">
    <h1>Statements</h1>
    <span class="muted"
      >Families: statements that differ in literals only, from the server's own counters</span
    >
    <input
      v-model="search"
      type="search"
      class="search"
      placeholder="Search statements"
      aria-label="Search statements whose text contains"
      @input="find"
    />
  </div>
  <div v-if="limit" class="sheet">
    <h2>Statement figures are not available</h2>
    <p>{{ limit.reason }}</p>
    <pre>{{ limit.remedy }}</pre>
  </div>
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="data" class="sheet">
    <p v-if="data.list.coverage.periods === 0" class="empty">
      No period of this window has figures yet: figures need two readings of the counters. Choose a longer
      window, or wait a moment.
    </p>
    <p v-else-if="data.list.matching === 0" class="empty">
      {{
        route.query.search
          ? `No statement of this window contains “${route.query.search}”.`
          : 'No statement ended in this window.'
      }}
    </p>
    <table v-else class="figures" data-test="statements">
      <thead>
        <tr>
          <th
            v-for="column in COLUMNS"
            :key="column.sort"
            class="number"
            :aria-sort="sort === column.sort ? (ascending ? 'ascending' : 'descending') : 'none'"
          >
            <button
              type="button"
              class="sort"
              :title="column.hint"
              :aria-pressed="sort === column.sort"
              @click="sortBy(column.sort)"
            >
              {{ column.title }}{{ sort === column.sort ? (ascending ? ' ↑' : ' ↓') : '' }}
            </button>
          </th>
          <th class="number" title="share of the time of all statements">share</th>
          <th class="wide">
            <button type="button" class="sort" :aria-pressed="sort === 'text'" @click="sortBy('text')">
              statement{{ sort === 'text' ? (ascending ? ' ↑' : ' ↓') : '' }}
            </button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in data.list.families" :key="row.family_id">
          <td class="number">{{ row.lower_bound ? '≥ ' : '' }}{{ count(row.figures.calls) }}</td>
          <td class="number">{{ seconds(row.figures.exec_us / 1e6) }}</td>
          <td class="number">{{ milliseconds(row.mean_ms) }}</td>
          <td class="number">{{ count(row.figures.hit_pages + row.figures.read_pages) }}</td>
          <td class="number">{{ count(row.figures.rows) }}</td>
          <td class="number share">
            <span class="bar" :style="{ width: `${row.share * 44}px` }" />{{ percent(row.share) }}
          </td>
          <td class="wide">
            <RouterLink
              class="mono one-line"
              :to="{
                name: 'family',
                params: { family: row.family_id },
                query: { from: route.query.from, to: route.query.to, last: route.query.last },
              }"
              :title="row.text"
              >{{ row.text }}</RouterLink
            >
            <span
              v-if="data.changes.get(row.family_id)"
              class="change"
              :class="{ slower: data.changes.get(row.family_id)!.ratio.value > 1 }"
            >
              {{ data.changes.get(row.family_id)!.ratio.value > 1 ? '◆ slower' : 'faster' }} since
              {{ clock(data.changes.get(row.family_id)!.onset, new Date()) }}:
              {{ timesAs(data.changes.get(row.family_id)!.ratio.value) }}
            </span>
            <span v-if="row.tag" class="muted tag">/* {{ row.tag }} */</span>
          </td>
        </tr>
      </tbody>
    </table>
    <div v-if="data.list.matching > 0" class="foot">
      <span class="muted">
        {{ count(data.list.matching) }} families, {{ seconds(data.list.total.exec_us / 1e6) }} in all
        <template v-if="data.list.coverage.span">
          · {{ count(data.list.coverage.periods) }} periods from
          {{ clock(data.list.coverage.span.from, new Date()) }} to
          {{ clock(data.list.coverage.span.to, new Date()) }}, {{ source(data.list.coverage.detail) }}
        </template>
      </span>
      <Pagination
        v-if="data.list.matching > PAGE_SIZE"
        size="small"
        :current="page"
        :page-size="PAGE_SIZE"
        :total="data.list.matching"
        :show-size-changer="false"
        @change="(next: number) => go({ page: String(next) })"
      />
    </div>
    <details v-if="data.list.coverage.without.length" class="muted">
      <summary>
        {{ data.list.coverage.without.length }}
        {{ data.list.coverage.without.length === 1 ? 'reading' : 'readings' }} without figures for the time
        before
      </summary>
      <div v-for="gap in data.list.coverage.without" :key="gap.at">
        {{ clock(gap.at, new Date()) }} – {{ gap.reason }}
      </div>
    </details>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
</template>

<style scoped>
.search {
  margin-left: auto;
  width: 240px;
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 8px;
}
.wide {
  width: 100%;
  max-width: 0;
}
.share {
  min-width: 110px;
}
.bar {
  display: inline-block;
  height: 9px;
  background: var(--plum);
  margin-right: 6px;
}
.change,
.tag {
  font-size: 12.5px;
  margin-right: 10px;
}
.slower {
  color: var(--plum);
  font-weight: 700;
}
.foot {
  display: flex;
  justify-content: space-between;
  gap: 14px;
  padding-top: 8px;
  font-size: 12.5px;
}
.empty {
  margin: 4px 0;
}
</style>
