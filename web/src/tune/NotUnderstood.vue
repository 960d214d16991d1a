<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useOfInstance } from '../composables/useOfInstance'
import { counted, percent } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import { type Column } from '../ui/table'

/** Statements that the advice on missing indexes passes over, and why. */
type Row = Schemas['NotUnderstoodStatement']
const props = defineProps<{ instance: number; news: number }>()
const route = useRoute()
const { loaded, data, reload } = useOfInstance(props, (path) =>
  answer(api.GET('/api/v1/instances/{instance_id}/statements-not-understood', { params: { path } })),
)
const more = computed(() => (data.value ? data.value.count - data.value.statements.length : 0))
const COLUMNS: Column<Row>[] = [
  {
    key: 'share',
    title: 'of the time',
    number: true,
    sorts: 'descending',
    value: (row) => row.share,
    text: (row) => percent(row.share),
  },
  { key: 'why', title: 'why no index is looked for', value: (row) => row.why },
  { key: 'text', title: 'statement', wide: true, value: (row) => row.text },
]
</script>

<template>
  <PageState :loaded="loaded" @retry="reload" />
  <section v-if="data && data.count > 0" class="sheet" aria-label="Statements without advice">
    <h2>Statements that no index is looked for</h2>
    <p class="muted">
      {{ counted(data.count, 'statement') }} of the last day, {{ percent(data.share) }} of the time: what they
      ask for is not known in full. Look at their plans yourself.
    </p>
    <DataTable
      name="without"
      test="not-understood"
      :rows="data.statements"
      :columns="COLUMNS"
      :row-key="(row) => row.family_id"
      order="-share"
      :page-size="10"
      one="statement"
    >
      <template #cell-text="{ row }">
        <RouterLink
          class="mono one-line"
          :to="{ name: 'family', params: { family: row.family_id }, query: { last: route.query.last } }"
          :title="row.text"
          >{{ row.text }}</RouterLink
        >
      </template>
    </DataTable>
    <p v-if="more > 0" class="muted">{{ counted(more, 'statement') }} that took less time are not shown.</p>
  </section>
</template>
