<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useSort } from '../composables/useSort'
import { useWindow } from '../composables/useWindow'
import { bytes, clock, count, number, percent, seconds, source } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import SortHead from '../pictures/SortHead.vue'
import { hitShare } from './databaseRows'

type Row = Schemas['DatabaseFigures']
/** Databases of an instance with their size and what they did in the window. */
const COLUMNS: Record<string, (row: Row) => string | number | null> = {
  name: (row) => row.name,
  owner: (row) => row.owner,
  size: (row) => row.size_bytes ?? null,
  busy: (row) => row.load?.total ?? null,
  commits: (row) => row.work.commits,
  rollbacks: (row) => row.work.rollbacks,
  hits: (row) => hitShare(row.work),
  temp: (row) => row.work.temp_bytes,
  deadlocks: (row) => row.work.deadlocks,
  sessions: (row) => row.work.sessions,
}

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
const { sorted, sorting } = useSort(() => list.value?.databases ?? [], COLUMNS, 'size')
const kind = (row: Row) =>
  row.is_connected ? 'watched in full' : row.is_template ? 'template' : row.allows_connections ? '' : 'closed'
</script>

<template>
  <div class="page-head">
    <h1>Databases of {{ instance?.label }}</h1>
    <span v-if="list" class="muted">
      {{ seconds(list.seconds) }} counted, {{ source(list.detail)
      }}<template v-if="list.read_at">; properties read {{ clock(list.read_at, new Date()) }}</template>
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
          <SortHead :sorting="sorting" column="name">database</SortHead>
          <SortHead :sorting="sorting" column="owner">owner</SortHead>
          <SortHead :sorting="sorting" column="size" number hint="on disk">size</SortHead>
          <SortHead :sorting="sorting" column="busy" number hint="mean number of busy sessions"
            >busy</SortHead
          >
          <SortHead :sorting="sorting" column="commits" number hint="transactions committed"
            >commits</SortHead
          >
          <SortHead :sorting="sorting" column="rollbacks" number hint="transactions">rollbacks</SortHead>
          <SortHead :sorting="sorting" column="hits" number hint="share of the pages wanted"
            >cache hits</SortHead
          >
          <SortHead :sorting="sorting" column="temp" number hint="to temporary files">temp files</SortHead>
          <SortHead :sorting="sorting" column="deadlocks" number>deadlocks</SortHead>
          <SortHead :sorting="sorting" column="sessions" number hint="begun">new sessions</SortHead>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in sorted" :key="row.name">
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
