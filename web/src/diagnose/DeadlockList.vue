<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { clock, counted } from '../format'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'
import StatementLink from '../ui/StatementLink.vue'
import DeadlockLoop from './DeadlockLoop.vue'

/** Deadlocks and lock timeouts of a window, as the server's log tells them. */
const props = defineProps<{ told: Schemas['Deadlocks'] }>()
const TIMEOUTS: Column<Schemas['Deadlocks']['timeouts'][number]>[] = [
  {
    key: 'at',
    title: 'lock timeout at',
    value: (row) => row.at,
    text: (row) => clock(row.at, new Date(), true),
  },
  { key: 'account', title: 'account', value: (row) => row.account },
  { key: 'program', title: 'program', value: (row) => row.program },
  { key: 'times', title: 'times', number: true, value: (row) => row.times },
  { key: 'statement', title: 'statement that gave up', wide: true, value: (row) => row.statement },
]
const FIRST = 3
const showsAll = ref(false)
const shown = computed(() => (showsAll.value ? props.told.deadlocks : props.told.deadlocks.slice(0, FIRST)))
</script>

<template>
  <section class="sheet" data-test="deadlocks">
    <h2>Deadlocks and lock timeouts</h2>
    <p v-if="told.deadlock_count === 0 && told.timeout_count === 0" class="muted">
      The server’s log tells of none in this window.
    </p>
    <article v-for="one in shown" :key="`${one.at} ${one.ended}`">
      <p>
        <b>{{ clock(one.at, new Date(), true) }}</b> deadlock in {{ one.database }}; the server ended
        {{ [one.account, one.program].filter(Boolean).join(', ') }}, process {{ one.ended }}.
      </p>
      <DeadlockLoop :deadlock="one" />
    </article>
    <Button v-if="told.deadlocks.length > FIRST" size="small" @click="showsAll = !showsAll">{{
      showsAll ? 'Show the newest only' : `Show all ${told.deadlocks.length}`
    }}</Button>
    <p v-if="told.deadlock_count > told.deadlocks.length" class="muted">
      {{ counted(told.deadlock_count - told.deadlocks.length, 'older deadlock') }} in
      <RouterLink :to="{ name: 'log', query: $route.query }">Log</RouterLink>.
    </p>
    <DataTable
      v-if="told.timeouts.length"
      name="timeouts"
      one="lock timeout"
      :rows="told.timeouts"
      :columns="TIMEOUTS"
      :page-size="10"
      :row-key="(row) => `${row.at} ${row.account} ${row.program} ${row.statement}`"
    >
      <template #cell-statement="{ row }">
        <StatementLink :family="row.family_id" :text="row.statement" />
      </template>
    </DataTable>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
article + article {
  border-top: 1px solid var(--rule);
  margin-top: 8px;
  padding-top: 8px;
}
p {
  margin: 0 0 4px;
}
table {
  margin-top: 10px;
}
.wide {
  width: 100%;
  max-width: 0;
}
</style>
