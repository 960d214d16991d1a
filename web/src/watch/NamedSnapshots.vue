<script setup lang="ts">
import { Button, Input } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { clock, zone } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'

/** Snapshots of an instance that have a name: taken on demand, and kept until somebody deletes them. */
type Row = Schemas['SnapshotFigures']
const props = defineProps<{
  instanceId: number
  label: string
  mayTake: boolean
  /** Counts up whenever something was read. */
  again: number
}>()
const path = computed(() => ({ instance_id: props.instanceId }))
const { loaded, data, reload } = useLoaded(
  () => props.instanceId,
  () => props.again,
  () => answer(api.GET('/api/v1/instances/{instance_id}/snapshots', { params: { path: path.value } })),
)
const COLUMNS: Column<Row>[] = [
  { key: 'name', title: 'name', value: (row) => row.name },
  {
    key: 'taken',
    title: 'taken',
    value: (row) => row.taken_at,
    text: (row) => (row.taken_at ? clock(row.taken_at, new Date()) : 'being taken'),
  },
  { key: 'by', title: 'by', value: (row) => row.asked_by },
  { key: 'kinds', title: 'counters', value: (row) => row.kinds.join(', '), wide: true },
]
/** Two of them can be held against each other: each with the newest one after it. */
const reportTo = (row: Row) => {
  const taken = (data.value ?? []).filter((one) => one.taken_at)
  const second = taken.find((one) => one.snapshot_id !== row.snapshot_id)
  if (!row.taken_at || !second?.taken_at) return null
  const [first, last] = row.taken_at < second.taken_at ? [row, second] : [second, row]
  const query = { kind: 'snapshots', first: first.snapshot_id, second: last.snapshot_id }
  return { name: 'reports', params: { instance: props.label }, query }
}
const name = ref('')
const taking = useAction()
async function take(): Promise<void> {
  const taken = await taking.run('take', () =>
    answer(
      api.POST('/api/v1/instances/{instance_id}/snapshots', {
        params: { path: path.value },
        body: { name: name.value },
      }),
    ),
  )
  if (taken) name.value = ''
  await reload()
}
const removing = useAction()
async function remove(row: Row): Promise<void> {
  await removing.run('remove', () =>
    answer(
      api.DELETE('/api/v1/instances/{instance_id}/snapshots/{snapshot_id}', {
        params: { path: { ...path.value, snapshot_id: row.snapshot_id } },
      }),
    ),
  )
  await reload()
}
</script>

<template>
  <section class="sheet" data-test="snapshots">
    <header>
      <h2>Snapshots by name</h2>
      <form v-if="mayTake" @submit.prevent="take">
        <label class="name"
          >Name <Input v-model:value="name" :maxlength="100" placeholder="before release 12.4" size="small"
        /></label>
        <Button size="small" html-type="submit" :disabled="!name.trim()" :loading="taking.busy.value !== ''"
          >Create snapshot</Button
        >
      </form>
    </header>
    <ProblemNote v-if="taking.problem.value" :problem="taking.problem.value" @retry="take" />
    <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="reload" />
    <PageState :loaded="loaded" @retry="reload" />
    <DataTable
      v-if="data"
      name="snapshots"
      :rows="data"
      :columns="COLUMNS"
      :row-key="(row) => row.snapshot_id"
      one="snapshot"
      plain
    >
      <template #empty
        ><p class="muted">
          None was taken yet. A snapshot holds all counters as they are at that moment, and stays until it is
          deleted: take one before a release and one after it, and report on what lies between.
        </p></template
      >
      <template #actions="{ row }">
        <span class="acts">
          <RouterLink v-if="reportTo(row)" :to="reportTo(row)!">Report</RouterLink>
          <ConfirmButton
            v-if="mayTake"
            :lost="`The snapshot “${row.name}” is deleted, and nothing can be held against it any more.`"
            action="Delete"
            @confirm="remove(row)"
          />
        </span>
      </template>
    </DataTable>
    <p v-if="data?.length" class="muted foot">Times are in {{ zone() }}.</p>
  </section>
</template>

<style scoped>
header,
form,
.acts {
  display: flex;
  gap: 10px;
  align-items: baseline;
  white-space: nowrap;
}
form {
  margin-left: auto;
}
.name {
  display: flex;
  gap: 6px;
}
:deep(td:not(.wide)) {
  white-space: nowrap;
}
.foot {
  font-size: 12.5px;
  margin: 8px 0 0;
}
</style>
