<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useOfInstance } from '../composables/useOfInstance'
import { counted, number } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import StatementLink from '../ui/StatementLink.vue'
import { type Column } from '../ui/table'

/** How well predicted costs agree with those of the server's planner, and where they do not. */
type Row = Schemas['CostedStatement']
const props = defineProps<{ instance: number; news: number }>()
const route = useRoute()
const { loaded, data, reload } = useOfInstance(props, (path) =>
  answer(api.GET('/api/v1/instances/{instance_id}/cost-model', { params: { path } })),
)
const verdict = computed(() => {
  const of = data.value
  if (!of) return ''
  if (of.factor == null)
    return `Predicted costs were compared with ${counted(of.plans, 'plan')} of the server: too few to say how far they can be trusted.`
  return (
    `Predicted costs agree with the server's planner within a factor of ${number(of.factor)} for four of five of ` +
    `${counted(of.plans, 'plan')}; the median is ${number(of.middle)} times the planner's cost. ` +
    'Predicted times per call are given as wide as that.'
  )
})
const COLUMNS: Column<Row>[] = [
  {
    key: 'ratio',
    title: 'predicted ÷ planner',
    hint: 'How many times as much is predicted as the planner expects',
    number: true,
    value: (row) => row.ratio,
    text: (row) => number(row.ratio),
  },
  {
    key: 'predicted',
    title: 'predicted cost',
    hint: "in the planner's units",
    number: true,
    value: (row) => row.predicted_cost,
    text: (row) => number(row.predicted_cost),
  },
  {
    key: 'planner',
    title: "planner's cost",
    number: true,
    value: (row) => row.planner_cost,
    text: (row) => number(row.planner_cost),
  },
  { key: 'text', title: 'statement', wide: true, value: (row) => row.text },
]
</script>

<template>
  <PageState :loaded="loaded" @retry="reload" />
  <section v-if="data && data.plans > 0" class="sheet" aria-label="Predicted costs against the planner">
    <h2>Predicted costs against the planner</h2>
    <p class="muted" data-test="cost-model">{{ verdict }}</p>
    <details>
      <summary>Show the statements, those furthest apart first</summary>
      <DataTable
        name="costs"
        test="costed-statements"
        :rows="data.statements"
        :columns="COLUMNS"
        :row-key="(row) => row.family_id"
        :page-size="10"
        one="statement"
      >
        <template #cell-text="{ row }">
          <StatementLink :family="row.family_id" :text="row.text" :query="{ last: route.query.last }" />
        </template>
      </DataTable>
    </details>
  </section>
</template>
