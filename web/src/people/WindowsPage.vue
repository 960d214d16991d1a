<script setup lang="ts">
import { Button, Input, InputNumber } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { clock, seconds, zone } from '../format'
import { useActions } from '../frame/pageActions'
import ProblemNote from '../pictures/ProblemNote.vue'
import PageState from '../ui/PageState.vue'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import FormDialog from '../ui/FormDialog.vue'
import FormField from '../ui/FormField.vue'
import { WEEKDAYS } from '../weekdays'
import type { Column } from '../ui/table'

type Row = Schemas['WindowFigures']
/** When servers may be worked on, by instance or by group. */
const person = useSession()
const administers = computed(() => person.current?.role === 'administrator')
const {
  loaded,
  data: windows,
  reload,
} = useLoaded(
  () => 'windows',
  () => 0,
  () => answer(api.GET('/api/v1/maintenance-windows')),
)
const whose = (row: Row) => (row.instance ? row.instance : `group ${row.group}`)
const days = (row: Row) =>
  row.days.length === 7 ? 'every day' : row.days.map((day) => day.slice(0, 3)).join(', ')
const COLUMNS: Column<Row>[] = [
  { key: 'name', title: 'name', value: (row) => row.name },
  { key: 'whose', title: 'for', value: whose },
  { key: 'opens', title: 'opens', value: (row) => `${days(row)} at ${row.start}` },
  {
    key: 'length',
    title: 'length',
    number: true,
    value: (row) => row.minutes,
    text: (row) => seconds(row.minutes * 60),
  },
  { key: 'zone', title: 'time zone', value: (row) => row.time_zone },
  { key: 'until', title: 'now', value: (row) => row.until },
]

const FRESH = {
  name: '',
  instance: '',
  group: '',
  days: ['sunday'],
  start: '02:00',
  minutes: 120,
  time_zone: zone(),
}
const open = ref(false)
const changed = ref<Row | null>(null)
const form = reactive({ ...FRESH })
function begin(row: Row | null): void {
  changed.value = row
  Object.assign(form, FRESH, row ? { ...row, instance: row.instance ?? '', group: row.group ?? '' } : {})
  form.days = [...(row?.days ?? FRESH.days)]
  open.value = true
}
useActions(() => (administers.value ? [{ title: 'Create maintenance window', run: () => begin(null) }] : []))
const saving = useAction()
async function save(): Promise<void> {
  const { name, start, minutes, time_zone } = form
  const [instance, group] = [form.instance.trim() || undefined, form.group.trim() || undefined]
  const body = { name, instance, group, days: form.days, start, minutes, time_zone }
  const known = changed.value
  const saved = await saving.run('save', () =>
    answer(
      known
        ? api.PUT('/api/v1/maintenance-windows/{window_id}', {
            params: { path: { window_id: known.window_id } },
            body,
          })
        : api.POST('/api/v1/maintenance-windows', { body }),
    ),
  )
  if (saved) open.value = false
  await reload()
}
const removing = useAction()
async function remove(row: Row): Promise<void> {
  const path = { window_id: row.window_id }
  await removing.run(`remove ${row.window_id}`, () =>
    answer(api.DELETE('/api/v1/maintenance-windows/{window_id}', { params: { path } })),
  )
  await reload()
}
</script>

<template>
  <div class="page-head">
    <h1>Maintenance windows</h1>
    <span class="muted">When work on servers may start</span>
    <Button v-if="administers" type="primary" class="add" @click="begin(null)">Create window</Button>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="reload" />
  <div v-if="windows" class="sheet">
    <DataTable
      name="windows"
      test="windows"
      :rows="windows"
      :columns="COLUMNS"
      :row-key="(row) => row.window_id"
      order="until"
      one="window"
    >
      <template #empty
        ><p class="muted">There is no maintenance window: work may start at any time.</p></template
      >
      <template #cell-name="{ row }"
        ><b>{{ row.name }}</b></template
      >
      <template #cell-until="{ row }">
        <b v-if="row.is_open">open until</b><template v-else>opens</template>
        {{ clock(row.until, new Date(), false) }}
      </template>
      <template v-if="administers" #actions="{ row }">
        <div class="acts">
          <Button size="small" @click="begin(row)">Edit</Button>
          <ConfirmButton
            :lost="`Work that waits for “${row.name}” will no longer wait for a window.`"
            action="Delete"
            @confirm="remove(row)"
          />
        </div>
      </template>
    </DataTable>
    <p v-if="windows.length" class="muted foot">Times under “now” are in {{ zone() }}.</p>
  </div>
  <FormDialog
    :open="open"
    :title="changed ? `Edit ${changed.name}` : 'Create maintenance window'"
    :values="form"
    :submit="changed ? 'Save' : 'Create'"
    :busy="saving.busy.value !== ''"
    :problem="saving.problem.value"
    @submit="save"
    @close="open = false"
  >
    <FormField label="Name" for="w-name" :fault="saving.fault.value('name')">
      <Input id="w-name" v-model:value="form.name" :maxlength="100" />
    </FormField>
    <FormField
      label="Instance"
      for="w-instance"
      hint="a label; leave it empty for a group"
      :fault="saving.fault.value('instance')"
    >
      <Input id="w-instance" v-model:value="form.instance" />
    </FormField>
    <FormField
      label="Group"
      for="w-group"
      hint="all instances of it, instead of one"
      :fault="saving.fault.value('group')"
    >
      <Input id="w-group" v-model:value="form.group" />
    </FormField>
    <FormField label="Days" :fault="saving.fault.value('days')">
      <div role="group" aria-label="Days">
        <label v-for="day in WEEKDAYS" :key="day" class="day"
          ><input v-model="form.days" type="checkbox" :value="day" />{{ day.slice(0, 3) }}</label
        >
      </div>
    </FormField>
    <FormField label="Opens at" for="w-start" :fault="saving.fault.value('start')">
      <Input id="w-start" v-model:value="form.start" placeholder="01:30" />
    </FormField>
    <FormField label="Duration" for="w-minutes" hint="in minutes" :fault="saving.fault.value('minutes')">
      <InputNumber
        id="w-minutes"
        :value="form.minutes"
        :min="1"
        :max="1440"
        @change="(minutes) => (form.minutes = Number(minutes))"
      />
    </FormField>
    <FormField label="Time zone" for="w-zone" :fault="saving.fault.value('time_zone')">
      <Input id="w-zone" v-model:value="form.time_zone" />
    </FormField>
  </FormDialog>
</template>

<style scoped>
.add {
  margin-left: auto;
}
.day {
  display: inline-flex;
  gap: 3px;
  margin-right: 7px;
  align-items: baseline;
}
.acts {
  white-space: nowrap;
}
.acts button + button {
  margin-left: 6px;
}
.foot {
  font-size: 12.5px;
  margin: 8px 0 0;
}
</style>
