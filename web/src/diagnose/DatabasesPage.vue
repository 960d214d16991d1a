<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useWindow } from '../composables/useWindow'
import { bytes, clock, count, number, percent, seconds, source } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import { hitShare } from './databaseRows'

type Row = Schemas['DatabaseFigures']
/** Databases of an instance with their size and what they did in the window. */
const COLUMNS: { key: string; title: string; hint: string; of: (row: Row) => number }[] = [
  { key: 'size', title: 'size', hint: 'on disk', of: (row) => row.size_bytes ?? -1 },
  { key: 'load', title: 'busy', hint: 'mean number of busy sessions', of: (row) => row.load?.total ?? -1 },
  { key: 'commits', title: 'commits', hint: 'transactions committed', of: (row) => row.work.commits },
  { key: 'rollbacks', title: 'rolled back', hint: 'transactions', of: (row) => row.work.rollbacks },
  { key: 'hits', title: 'in cache', hint: 'share of the pages wanted', of: (row) => hitShare(row.work) ?? 2 },
  { key: 'temp', title: 'spilled', hint: 'bytes of temporary files', of: (row) => row.work.temp_bytes },
  { key: 'deadlocks', title: 'deadlocks', hint: 'found', of: (row) => row.work.deadlocks },
  { key: 'sessions', title: 'new sessions', hint: 'begun', of: (row) => row.work.sessions },
]

const { instance, news } = useInstance()
const { window, key } = useWindow()
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const { loaded, reload } = useLoaded(
  () => `${id.value} ${key.value}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/databases', {
        params: {
          path: { instance_id: id.value },
          query: { from: window.value.from.toISOString(), to: window.value.to.toISOString() },
        },
      }),
    ),
)
const list = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const sort = ref('size')
const up = ref(false)
function sortBy(key: string): void {
  up.value = sort.value === key ? !up.value : false
  sort.value = key
}
const rows = computed(() => {
  const of = COLUMNS.find((column) => column.key === sort.value)?.of
  const all = [...(list.value?.databases ?? [])]
  if (of) all.sort((a, b) => (of(b) - of(a)) * (up.value ? -1 : 1))
  else all.sort((a, b) => a.name.localeCompare(b.name) * (up.value ? -1 : 1))
  return all
})
const kind = (row: Row) =>
  row.is_connected ? 'watched in full' : row.is_template ? 'template' : row.allows_connections ? '' : 'closed'
</script>

<template>
  <div class="page-head">
    <h1>Databases of {{ instance?.label }}</h1>
    <span v-if="list" class="muted">
      {{ seconds(list.seconds) }} counted, {{ source(list.detail) }}
      <template v-if="list.read_at">; properties read {{ clock(list.read_at, new Date()) }}</template>
    </span>
  </div>
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="list" class="sheet">
    <p v-if="!list.read_at" class="muted">
      The list of databases was not read yet: it comes with the first reading of “inventory”.
    </p>
    <table v-else class="figures" data-test="databases">
      <thead>
        <tr>
          <th>
            <button type="button" class="sort" :aria-pressed="sort === 'name'" @click="sortBy('name')">
              database{{ sort === 'name' ? (up ? ' ↓' : ' ↑') : '' }}
            </button>
          </th>
          <th>owner</th>
          <th
            v-for="column in COLUMNS"
            :key="column.key"
            class="number"
            :aria-sort="sort === column.key ? (up ? 'ascending' : 'descending') : 'none'"
          >
            <button
              type="button"
              class="sort"
              :title="column.hint"
              :aria-pressed="sort === column.key"
              @click="sortBy(column.key)"
            >
              {{ column.title }}{{ sort === column.key ? (up ? ' ↑' : ' ↓') : '' }}
            </button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in rows" :key="row.name">
          <td>
            <RouterLink :to="{ name: 'database', params: { database: row.name }, query: route.query }">{{
              row.name
            }}</RouterLink>
            <span v-if="kind(row)" class="muted kind">{{ kind(row) }}</span>
          </td>
          <td>{{ row.owner }}</td>
          <td class="number">{{ bytes(row.size_bytes) }}</td>
          <td class="number">{{ number(row.load?.total) }}</td>
          <td class="number">{{ count(row.work.commits) }}</td>
          <td class="number">{{ count(row.work.rollbacks) }}</td>
          <td class="number">{{ percent(hitShare(row.work)) }}</td>
          <td class="number">{{ bytes(row.work.temp_bytes) }}</td>
          <td class="number">{{ count(row.work.deadlocks) }}</td>
          <td class="number">{{ count(row.work.sessions) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
</template>

<style scoped>
.kind {
  font-size: 12.5px;
  margin-left: 8px;
}
</style>
