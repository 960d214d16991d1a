<script setup lang="ts">
import { computed, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLive } from '../composables/useLive'
import { useLoaded } from '../composables/useLoaded'
import { ago, bytes, clock, count, counted, seconds } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import CourseStack from './CourseStack.vue'
import { courseName, courseRow } from './courseRows'
import { useCourses } from './useCourses'

/** Who follows whom, how far behind, what slots keep, and whether a replica could be promoted now. */
type Server = Schemas['ReplicatedServer']
type Slot = Schemas['ReplicationSlot']
const { instance } = useInstance()
const id = computed(() => instance.value?.instance_id ?? 0)
const { tick, isFrozen } = useLive()
const { loaded, data, reload } = useLoaded(id, tick, () =>
  answer(
    api.GET('/api/v1/instances/{instance_id}/replication', { params: { path: { instance_id: id.value } } }),
  ),
)
const FIGURES = 'replica_lag,replica_lag_bytes,replay_lag,slot_kept,log_written,replicas_connected'
const course = useCourses(FIGURES)
/** Who follows whom is read anew while the window follows the clock. */
watch(
  () => course.window.value.last,
  (last) => (isFrozen.value = last === null),
  { immediate: true },
)
const rows = computed(() =>
  (course.data.value?.courses ?? []).map((one) => ({
    ...courseRow(one, courseName(one), `${one.figure} ${one.object}`),
    press: undefined,
  })),
)
const known = (value: number | null | undefined, write: (value: number) => string) =>
  value == null ? '–' : write(value)
const PARTS: Record<Server['part'], string> = {
  primary: 'primary',
  replica: 'replica',
  subscriber: 'subscriber (logical)',
  unknown: 'not known',
}
const primaries = computed(() =>
  (data.value?.servers ?? []).filter((server) => server.part === 'primary').map((server) => server.name),
)
const SLOTS: Column<Slot>[] = [
  { key: 'name', title: 'slot', value: (row) => row.name },
  { key: 'server', title: 'on', value: (row) => row.server },
  {
    key: 'kind',
    title: 'kind',
    value: (row) => (row.is_logical ? `logical, database ${row.database}` : 'physical'),
  },
  {
    key: 'read',
    title: 'read from',
    value: (row) =>
      row.is_active ? 'now' : row.inactive_since ? ago(row.inactive_since, new Date()) : 'not now',
  },
  {
    key: 'kept',
    title: 'WAL kept',
    number: true,
    value: (row) => row.kept_bytes ?? null,
    text: (row) => known(row.kept_bytes, bytes),
  },
  {
    key: 'safe',
    title: 'until it is lost',
    hint: 'WAL that may be written before the slot loses what it needs (max_slot_wal_keep_size)',
    number: true,
    value: (row) => row.safe_bytes ?? null,
    text: (row) => known(row.safe_bytes, bytes),
  },
  { key: 'state', title: 'WAL is', value: (row) => row.state },
  {
    key: 'xmin_age',
    title: 'transactions held back',
    hint: 'since the oldest row version that vacuum keeps for it',
    number: true,
    value: (row) => row.xmin_age ?? null,
    text: (row) => known(row.xmin_age, count),
  },
]
</script>

<template>
  <div class="page-head">
    <h1>Replication</h1>
    <span v-if="data" class="muted"
      >{{ counted(data.servers.length, 'server') }} at {{ clock(data.at, new Date(), true) }}, by the server’s
      clock</span
    >
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="data">
    <section class="sheet" data-test="replication">
      <p v-if="data.primaries > 1" class="warn" role="alert">
        {{ counted(data.primaries, 'server') }} of this system are primaries: {{ primaries.join(', ') }}. Each
        writes a history of its own. Decide which one stays, and build the other anew as its replica.
      </p>
      <p v-for="one in data.silent" :key="one.label" class="warn">
        {{ one.label }} could not be asked: {{ one.problem }}
      </p>
      <p v-if="data.servers.length === 1">No server follows this one, and it follows none.</p>
      <table v-else class="figures">
        <thead>
          <tr>
            <th>server</th>
            <th>part</th>
            <th>state</th>
            <th>slot</th>
            <th class="number">behind</th>
            <th class="number">WAL</th>
            <th class="number">transactions</th>
            <th>if it were promoted now</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(server, at) in data.servers" :key="`${at} ${server.name}`">
            <td :style="{ paddingLeft: `${8 + server.depth * 22}px` }">
              <span v-if="server.depth" class="muted" aria-hidden="true">└ </span>
              <b v-if="server.instance_id === id">{{ server.name }}</b>
              <RouterLink
                v-else-if="server.instance_id"
                :to="{ name: 'replication', params: { instance: server.name } }"
                >{{ server.name }}</RouterLink
              >
              <template v-else>{{ server.name || 'an archive of WAL' }}</template>
              <div class="muted small">
                {{ server.address === server.name ? '' : server.address }}
                <template v-if="!server.instance_id">not watched</template>
              </div>
            </td>
            <td>{{ PARTS[server.part] }}</td>
            <td>
              {{ server.state }}<template v-if="server.synchronous">, {{ server.synchronous }}</template>
            </td>
            <td>{{ server.slot ?? '' }}</td>
            <template v-if="server.depth">
              <td class="number">{{ known(server.behind_seconds, seconds) }}</td>
              <td class="number">{{ known(server.behind_bytes, bytes) }}</td>
              <td class="number">{{ known(server.behind_transactions, count) }}</td>
            </template>
            <td v-else colspan="3"></td>
            <td>
              <template v-if="server.promotion">
                <HealthMark :health="server.promotion.health" />
                {{ server.promotion.sentence }}
              </template>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
  </template>
  <section v-if="course.data.value?.courses.length" class="sheet" data-test="lag">
    <CourseStack
      :data="course.data.value"
      :rows="rows"
      :window="course.window.value"
      :chosen="null"
      read-only
    />
  </section>
  <template v-if="data">
    <section class="sheet" data-test="slots">
      <h2>Replication slots</h2>
      <DataTable
        name="slots"
        one="slot"
        order="-kept"
        :rows="data.slots"
        :columns="SLOTS"
        :row-key="(row) => `${row.server} ${row.name}`"
        :row-class="(row) => (row.is_active ? undefined : 'idle')"
      >
        <template #empty
          ><p class="muted">There is no replication slot: no WAL is kept for anybody.</p></template
        >
      </DataTable>
    </section>
    <section v-if="data.conflicts.length" class="sheet" data-test="conflicts">
      <h2>Statements that replay has ended</h2>
      <table class="figures conflicts">
        <thead>
          <tr>
            <th>replica</th>
            <th>what was in the way</th>
            <th class="number">statements</th>
            <th>since</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in data.conflicts" :key="`${one.server} ${one.cause}`">
            <td>{{ one.server }}</td>
            <td>{{ one.cause }}</td>
            <td class="number">{{ count(one.count) }}</td>
            <td>{{ one.since ? clock(one.since, new Date()) : 'its counters began' }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </template>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
.small {
  font-size: 12.5px;
}
.warn {
  color: var(--warn);
}
.conflicts {
  width: auto;
}
:deep(tr.idle td:nth-child(4)) {
  color: var(--warn);
}
</style>
