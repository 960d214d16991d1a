<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { clock, number, timesAs } from '../format'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'
import { level, standing, whatChanged } from './measured'

/** Lasting changes as a list: what, by how much, since when, and what it costs. */
type Row = Schemas['FamilyChange']
const props = defineProps<{
  name: string
  changes: readonly Row[]
  /** Whether all are of one statement, which then is not named in each. */
  ofOne?: boolean
  /** Instance that they are of, where the address does not name it. */
  instance?: string
}>()
const ofServer = (row: Row) => row.family_id == null
const COLUMNS: Column<Row>[] = [
  {
    key: 'since',
    title: 'since',
    value: (row) => row.change.onset,
    text: (row) => clock(row.change.onset, new Date(), false),
  },
  { key: 'standing', title: 'state', value: (row) => standing(row.change) },
  { key: 'what', title: 'what changed', value: (row) => whatChanged(row.change, ofServer(row)) },
  ...(
    [
      ['before', 'typical level before the onset'],
      ['after', 'typical level since the onset'],
    ] as const
  ).map(([side, hint]): Column<Row> => ({
    key: side,
    title: side,
    hint,
    number: true,
    value: (row) => row.change[side].typical,
    text: (row) => level(row.change, row.change[side].typical, ofServer(row)),
  })),
  {
    key: 'ratio',
    title: 'factor',
    hint: 'new level ÷ old',
    number: true,
    value: (row) => row.change.ratio.value,
    text: (row) => `× ${number(row.change.ratio.value)}`,
  },
  {
    key: 'cost',
    title: 'time, s/s',
    hint: 'change of the server’s statement time, in seconds per second',
    number: true,
    value: (row) => row.change.cost,
    text: (row) => {
      const value = row.change.cost
      if (value == null) return ''
      return `${value > 0 ? '+' : value < 0 ? '−' : ''}${number(Math.abs(value))}`
    },
  },
]
/** What happened when it began, where anything did. */
const happened = (row: Row) => row.change.causes?.[0]?.evidence.replace('At about that time: ', '') ?? ''
const HAPPENED: Column<Row> = {
  key: 'then',
  title: 'what happened then',
  hint: 'settings, markers, indexes, restarts and versions around the onset',
  value: happened,
}
const OF: Column<Row> = { key: 'of', title: 'of', wide: true, value: (row) => row.text || 'the server' }
const columns = computed(() => [
  ...COLUMNS,
  ...(props.changes.some((row) => happened(row)) ? [HAPPENED] : []),
  ...(props.ofOne ? [] : [OF]),
])
/** What a pointer is told of the interval. */
const interval = ({ change }: Row) =>
  `between ${timesAs(change.ratio.low)} and ${timesAs(change.ratio.high)}, with 95 % certainty`
</script>

<template>
  <DataTable
    :name="name"
    :test="name"
    order="-cost"
    one="change"
    :plain="ofOne"
    :rows="changes"
    :columns="columns"
    :row-key="(row) => row.change.change_id"
    :row-class="(row) => (row.change.until == null ? undefined : 'muted')"
  >
    <template #cell-since="{ row }">
      <span class="whole">{{ clock(row.change.onset, new Date(), false) }}</span>
    </template>
    <template #cell-what="{ row }">
      <span class="whole">{{ whatChanged(row.change, ofServer(row)) }}</span>
    </template>
    <template #cell-ratio="{ row }">
      <span :title="interval(row)">× {{ number(row.change.ratio.value) }}</span>
    </template>
    <template #cell-of="{ row }">
      <RouterLink
        v-if="row.family_id"
        class="mono one-line"
        :to="{
          name: 'family',
          params: { instance: instance ?? $route.params.instance, family: row.family_id },
          query: instance ? {} : $route.query,
        }"
        >{{ row.text }}</RouterLink
      >
      <template v-else>{{
        row.change.measured === 'time_per_call' || row.change.measured === 'calls'
          ? 'the server: nearly all statements'
          : 'the server'
      }}</template>
    </template>
  </DataTable>
</template>

<style scoped>
.whole {
  white-space: nowrap;
}
</style>
