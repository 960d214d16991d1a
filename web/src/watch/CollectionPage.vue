<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useSort } from '../composables/useSort'
import SortHead from '../pictures/SortHead.vue'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { ago, bytes, count, milliseconds, percent, seconds } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'

type Told = Schemas['FiguresTold']

/** What an instance can tell: each kind of figures, how it stands, and what would give what is missing. */
const { instance, news } = useInstance()
const session = useSession()
const id = computed(() => instance.value?.instance_id ?? 0)
const path = computed(() => ({ instance_id: id.value }))
const { loaded, reload } = useLoaded(id, news, () =>
  answer(api.GET('/api/v1/instances/{instance_id}/figures', { params: { path: path.value } })),
)
const figures = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
/** What needs somebody comes first; the order of the server stays otherwise. */
const ORDER = ['overdue', 'absent', 'limited', 'waiting', 'collected']
const inOrder = computed(() =>
  [...(figures.value ?? [])].sort((a, b) => ORDER.indexOf(a.availability) - ORDER.indexOf(b.availability)),
)
const { sorted, sorting } = useSort(() => inOrder.value, {
  figures: (row: Told) => row.figures,
  state: (row: Told) => row.availability,
  every: (row: Told) => row.interval_seconds,
  last: (row: Told) => (row.last_read_at ? Date.parse(row.last_read_at) : null),
  takes: (row: Told) => row.mean_read_ms,
  reads: (row: Told) => row.mean_bytes,
  core: (row: Told) => row.cost_share,
  readings: (row: Told) => row.read,
})
const counts = computed(() => {
  const of = (availability: string) => inOrder.value.filter((one) => one.availability === availability).length
  return ORDER.map((availability) => ({ availability, count: of(availability) })).filter(
    (one) => one.count > 0,
  )
})
const troubles = (told: Told) =>
  [
    told.refused && `${count(told.refused)} refused`,
    told.missed && `${count(told.missed)} missed`,
    told.dropped && `${count(told.dropped)} lost`,
  ].filter(Boolean)

const asked = ref(false)
const { busy, problem, run } = useAction()
async function ask(): Promise<void> {
  asked.value = await run('ask', () =>
    answer(api.POST('/api/v1/instances/{instance_id}/snapshot', { params: { path: path.value } })),
  )
}
</script>

<template>
  <div class="page-head">
    <h1>Collection of {{ instance?.label }}</h1>
    <span class="muted">{{ counts.map((one) => `${one.count} ${one.availability}`).join(', ') }}</span>
    <div class="ask no-print">
      <span v-if="asked" class="muted" role="status">Requested: this takes a few seconds.</span>
      <Button
        v-if="session.current?.role !== 'reader' && instance?.engine !== 'bundle'"
        :loading="busy !== ''"
        @click="ask"
        >Collect now</Button
      >
    </div>
  </div>
  <ProblemNote v-if="problem" :problem="problem" @retry="ask" />
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="figures" class="sheet">
    <table class="figures" data-test="availability">
      <thead>
        <tr>
          <SortHead :sorting="sorting" column="figures">figures</SortHead>
          <SortHead :sorting="sorting" column="state">state</SortHead>
          <th class="wide">content and obstacles</th>
          <SortHead :sorting="sorting" column="every" number hint="before stretching">every</SortHead>
          <SortHead :sorting="sorting" column="last" number>last read</SortHead>
          <SortHead
            :sorting="sorting"
            column="takes"
            number
            hint="time that the server took to answer, on the average of a day"
            >takes</SortHead
          >
          <SortHead :sorting="sorting" column="reads" number hint="on the average of a day">reads</SortHead>
          <SortHead
            :sorting="sorting"
            column="core"
            number
            hint="the time it takes over the interval: an upper bound of the server's work"
            >of a core</SortHead
          >
          <SortHead :sorting="sorting" column="readings" number hint="in the last 24 hours"
            >readings</SortHead
          >
        </tr>
      </thead>
      <tbody>
        <tr v-for="told in sorted" :key="told.figures">
          <td>
            <b>{{ told.figures }}</b>
          </td>
          <td :class="{ trouble: told.availability !== 'collected' && told.availability !== 'waiting' }">
            {{ told.availability }}
          </td>
          <td class="wide">
            {{ told.tells }}
            <details v-for="obstacle in told.obstacles" :key="obstacle.reason">
              <summary>{{ obstacle.reason }}</summary>
              <pre>{{ obstacle.remedy }}</pre>
            </details>
          </td>
          <td class="number">{{ seconds(told.interval_seconds) }}</td>
          <td class="number">{{ told.last_read_at ? ago(told.last_read_at, new Date()) : 'never' }}</td>
          <td class="number">{{ milliseconds(told.mean_read_ms) }}</td>
          <td class="number">{{ bytes(told.mean_bytes) }}</td>
          <td class="number">{{ percent(told.cost_share) }}</td>
          <td class="number">
            {{ count(told.read) }}
            <div v-for="trouble in troubles(told)" :key="String(trouble)" class="muted">{{ trouble }}</div>
          </td>
        </tr>
      </tbody>
    </table>
    <p class="muted foot">
      An account with <code>pg_monitor</code> is enough for most of this. Where something is missing, the
      statements that grant it are shown for the server's administrator.
    </p>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
</template>

<style scoped>
.ask {
  margin-left: auto;
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.wide {
  width: 50%;
}
.trouble {
  font-weight: 700;
}
details {
  margin-top: 4px;
}
summary {
  cursor: pointer;
  color: var(--muted);
}
pre {
  margin: 6px 0;
  padding: 8px 10px;
  background: var(--sunk);
  white-space: pre-wrap;
  user-select: all;
}
.foot {
  font-size: 12.5px;
  margin: 8px 0 0;
}
</style>
