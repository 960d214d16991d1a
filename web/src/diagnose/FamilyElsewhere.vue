<script setup lang="ts">
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { count, milliseconds, number, seconds } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import { useWindowPart, type FamilyPart } from './windowPart'

/** A family on all instances of a group, and where its time per call stands out. */
type Row = Schemas['FamilyOnInstance']
const props = defineProps<FamilyPart>()
const route = useRoute()
const { loaded, data, reload } = useWindowPart(
  props,
  ({ path, query }) =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/statements/{family_id}/elsewhere', {
        params: { path: { ...path, family_id: props.family }, query },
      }),
    ),
  () => [props.family],
)
const COLUMNS: Column<Row>[] = [
  { key: 'label', title: 'instance', value: (row) => row.label },
  {
    key: 'calls',
    title: 'calls',
    number: true,
    value: (row) => row.figures.calls,
    text: (row) => count(row.figures.calls),
  },
  {
    key: 'time',
    title: 'time',
    number: true,
    value: (row) => row.figures.exec_us / 1e6,
    text: (row) => seconds(row.figures.exec_us / 1e6),
  },
  {
    key: 'mean',
    title: 'mean',
    hint: 'time per call',
    number: true,
    value: (row) => row.mean_ms,
    text: (row) => milliseconds(row.mean_ms),
  },
  {
    key: 'stands_out',
    title: 'stands out',
    hint: "its time per call against the median of the other instances', where they differ more than those do",
    wide: true,
    value: (row) => row.stands_out,
    text: (row) =>
      row.stands_out == null ? '' : `◆ ${number(row.stands_out)} times the median of the others`,
  },
]
</script>

<template>
  <PageState v-if="!data" :loaded="loaded" @retry="reload" />
  <p v-else-if="data.instances.length < 2" class="muted">
    It ran on no other instance of the same group in this window.
  </p>
  <DataTable
    v-else
    name="elsewhere"
    test="elsewhere"
    :rows="data.instances"
    :columns="COLUMNS"
    :row-key="(row) => row.instance_id"
    one="instance"
    plain
  >
    <template #cell-label="{ row }">
      <RouterLink
        :to="{
          name: 'family',
          params: { instance: row.label, family: row.family_id },
          query: { from: route.query.from, to: route.query.to, last: route.query.last },
        }"
        >{{ row.label }}</RouterLink
      >
    </template>
  </DataTable>
</template>
