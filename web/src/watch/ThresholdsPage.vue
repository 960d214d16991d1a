<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { useActions } from '../frame/pageActions'
import HealthMark from '../pictures/HealthMark.vue'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import ThresholdForm from './ThresholdForm.vue'
import { condition, whose, type ThresholdRow } from './thresholdWords'

/** Values that figures should not pass: for all instances, groups, or single ones. */
const person = useSession()
const administers = computed(() => person.current?.role === 'administrator')
const {
  loaded,
  data: rows,
  reload,
} = useLoaded(
  () => 'thresholds',
  () => 0,
  () => answer(api.GET('/api/v1/thresholds')),
)
const { loaded: figures, reload: reloadFigures } = useLoaded(
  () => 'figures',
  () => 0,
  () => answer(api.GET('/api/v1/figures')),
)
const followed = computed(() => (figures.value.state === 'ready' ? figures.value.data : []))
const COLUMNS: Column<ThresholdRow>[] = [
  { key: 'title', title: 'figure', value: (row) => [row.title, row.object].join(' ').trim() },
  { key: 'whose', title: 'for', value: whose },
  { key: 'condition', title: 'raised', value: (row) => condition(row, row.unit) },
  { key: 'verdict', title: 'asks to', value: (row) => row.verdict },
  { key: 'step', title: 'what to do', wide: true, value: (row) => row.step },
  {
    key: 'is_on',
    title: 'raises',
    hint: 'whether it raises alarms',
    value: (row) => (row.is_on ? 'yes' : 'no'),
  },
]
const open = ref(false)
const changed = ref<ThresholdRow | null>(null)
function begin(row: ThresholdRow | null): void {
  changed.value = row
  open.value = true
}
useActions(() => (administers.value ? [{ title: 'Create threshold', run: () => begin(null) }] : []))
async function saved(): Promise<void> {
  open.value = false
  await reload()
}
const removing = useAction()
async function remove(row: ThresholdRow): Promise<void> {
  const path = { threshold_id: row.threshold_id }
  await removing.run(`remove ${row.threshold_id}`, () =>
    answer(api.DELETE('/api/v1/thresholds/{threshold_id}', { params: { path } })),
  )
  await reload()
}
</script>

<template>
  <div class="page-head">
    <h1>Thresholds</h1>
    <span class="muted">The closest is in force: of the instance, else of its group, else of all</span>
    <Button v-if="administers" type="primary" class="add" @click="begin(null)">Create threshold</Button>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="figures.state === 'failed'" :problem="figures.problem" @retry="reloadFigures" />
  <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="reload" />
  <div v-if="rows" class="sheet">
    <DataTable
      name="thresholds"
      test="thresholds"
      :rows="rows"
      :columns="COLUMNS"
      :row-key="(row) => row.threshold_id"
      order="title"
      one="threshold"
    >
      <template #empty
        ><p class="muted">No threshold is set: alarms come from usual ranges and checks alone.</p></template
      >
      <template #cell-title="{ row }"
        ><b>{{ row.title }}</b> {{ row.object }}</template
      >
      <template #cell-verdict="{ row }"><HealthMark :health="row.verdict" /></template>
      <template v-if="administers" #actions="{ row }">
        <div class="acts">
          <Button size="small" @click="begin(row)">Edit</Button>
          <ConfirmButton
            :lost="`Alarms of this threshold for ${whose(row)} close, and it raises none any more.`"
            action="Delete"
            @confirm="remove(row)"
          />
        </div>
      </template>
    </DataTable>
  </div>
  <ThresholdForm :open="open" :row="changed" :figures="followed" @close="open = false" @saved="saved" />
</template>

<style scoped>
.add {
  margin-left: auto;
}
.acts {
  display: flex;
  gap: 6px;
}
:deep(td) {
  white-space: nowrap;
}
:deep(td.wide) {
  white-space: normal;
}
</style>
