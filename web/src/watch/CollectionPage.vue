<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { ago, bytes, count, milliseconds, percent, seconds } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import PageState from '../ui/PageState.vue'
import { useSession } from '../stores/session'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'

import NamedSnapshots from './NamedSnapshots.vue'

type Told = Schemas['FiguresTold']

/** What an instance can tell: each kind of figures, how it stands, and what would give what is missing. */
const { instance } = useInstance()
const news = useNews('activity', 'collection')
const session = useSession()
const id = computed(() => instance.value?.instance_id ?? 0)
const path = computed(() => ({ instance_id: id.value }))
const {
  loaded,
  data: figures,
  reload,
} = useLoaded(id, news, () =>
  answer(api.GET('/api/v1/instances/{instance_id}/figures', { params: { path: path.value } })),
)
/** What needs somebody comes first; the order of the server stays otherwise. */
const ORDER = ['overdue', 'absent', 'limited', 'waiting', 'collected']
const inOrder = computed(() =>
  [...(figures.value ?? [])].sort((a, b) => ORDER.indexOf(a.availability) - ORDER.indexOf(b.availability)),
)
const COLUMNS: Column<Told>[] = [
  { key: 'figures', title: 'figures', value: (row) => row.figures },
  { key: 'state', title: 'state', value: (row) => row.availability },
  {
    key: 'content',
    title: 'content and obstacles',
    wide: true,
    value: (row) => [row.tells, ...row.obstacles.map((obstacle) => obstacle.reason)].join(' '),
  },
  {
    key: 'every',
    title: 'every',
    hint: 'before stretching',
    number: true,
    value: (row) => row.interval_seconds,
    text: (row) => seconds(row.interval_seconds),
  },
  {
    key: 'last',
    title: 'last read',
    number: true,
    value: (row) => (row.last_read_at ? Date.parse(row.last_read_at) : null),
    text: (row) => (row.last_read_at ? ago(row.last_read_at, new Date()) : 'never'),
  },
  {
    key: 'takes',
    title: 'takes',
    hint: 'time that the server took to answer, on the average of a day',
    number: true,
    value: (row) => row.mean_read_ms,
    text: (row) => milliseconds(row.mean_read_ms),
  },
  {
    key: 'reads',
    title: 'reads',
    hint: 'on the average of a day',
    number: true,
    value: (row) => row.mean_bytes,
    text: (row) => bytes(row.mean_bytes),
  },
  {
    key: 'core',
    title: 'of a core',
    hint: "the time it takes over the interval: an upper bound of the server's work",
    number: true,
    value: (row) => row.cost_share,
    text: (row) => percent(row.cost_share),
    total: (rows) => percent(rows.reduce((sum, row) => sum + (row.cost_share ?? 0), 0)),
  },
  {
    key: 'readings',
    title: 'readings',
    hint: 'in the last 24 hours',
    number: true,
    value: (row) => row.read,
    text: (row) => count(row.read),
    total: (rows) => count(rows.reduce((sum, row) => sum + row.read, 0)),
  },
]
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
  <NamedSnapshots
    v-if="instance && instance.engine !== 'bundle'"
    :instance-id="id"
    :label="instance.label"
    :may-take="session.current?.role !== 'reader'"
    :again="news"
  />
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="figures" class="sheet">
    <DataTable
      name="collection"
      test="availability"
      :rows="inOrder"
      :columns="COLUMNS"
      :row-key="(row) => row.figures"
    >
      <template #cell-figures="{ row }">
        <b>{{ row.figures }}</b>
      </template>
      <template #cell-state="{ row }">
        <span :class="{ trouble: row.availability !== 'collected' && row.availability !== 'waiting' }">{{
          row.availability
        }}</span>
      </template>
      <template #cell-content="{ row }">
        {{ row.tells }}
        <details v-for="obstacle in row.obstacles" :key="obstacle.reason">
          <summary>{{ obstacle.reason }}</summary>
          <pre>{{ obstacle.remedy }}</pre>
        </details>
      </template>
      <template #cell-readings="{ row }">
        {{ count(row.read) }}
        <div v-for="trouble in troubles(row)" :key="String(trouble)" class="muted">{{ trouble }}</div>
      </template>
    </DataTable>
    <p class="muted foot">
      An account with <code>pg_monitor</code> is enough for most of this. Where something is missing, the
      statements that grant it are shown for the server's administrator.
    </p>
  </div>
</template>

<style scoped>
.ask {
  margin-left: auto;
  display: flex;
  gap: 10px;
  align-items: baseline;
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
