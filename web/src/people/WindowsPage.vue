<script setup lang="ts">
import { Button, Input, InputNumber, Modal, Popconfirm } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { useSort } from '../composables/useSort'
import { clock, seconds, zone } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import SortHead from '../pictures/SortHead.vue'
import { useSession } from '../stores/session'

type Row = Schemas['WindowFigures']
/** When servers may be worked on, by instance or by group. */
const DAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday']
const person = useSession()
const administers = computed(() => person.current?.role === 'administrator')
const { loaded, reload } = useLoaded(
  () => 'windows',
  () => 0,
  () => answer(api.GET('/api/v1/maintenance-windows')),
)
const windows = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const whose = (row: Row) => (row.instance ? row.instance : `group ${row.group}`)
const { sorted, sorting } = useSort(
  () => windows.value ?? [],
  {
    name: (row: Row) => row.name,
    whose,
    until: (row: Row) => (row.until ? Date.parse(row.until) : null),
  },
  'until',
)
sorting.ascending = true
const days = (row: Row) =>
  row.days.length === 7 ? 'every day' : row.days.map((day) => day.slice(0, 3)).join(', ')

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
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="reload" />
  <div v-if="windows" class="sheet">
    <p v-if="windows.length === 0" class="muted">
      There is no maintenance window: work may start at any time.
    </p>
    <table v-else class="figures" data-test="windows">
      <thead>
        <tr>
          <SortHead :sorting="sorting" column="name">name</SortHead>
          <SortHead :sorting="sorting" column="whose">for</SortHead>
          <th>opens</th>
          <th class="number">length</th>
          <th>time zone</th>
          <SortHead :sorting="sorting" column="until">now</SortHead>
          <th v-if="administers"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="row in sorted" :key="row.window_id">
          <td>
            <b>{{ row.name }}</b>
          </td>
          <td>{{ whose(row) }}</td>
          <td>{{ days(row) }} at {{ row.start }}</td>
          <td class="number">{{ seconds(row.minutes * 60) }}</td>
          <td>{{ row.time_zone }}</td>
          <td>
            <b v-if="row.is_open">open until</b><template v-else>opens</template>
            {{ clock(row.until, new Date(), false) }}
          </td>
          <td v-if="administers" class="acts">
            <Button size="small" @click="begin(row)">Edit</Button>
            <Popconfirm
              :title="`Work that waits for “${row.name}” will no longer wait for a window.`"
              ok-text="Delete"
              cancel-text="Cancel"
              @confirm="remove(row)"
            >
              <Button size="small">Delete</Button>
            </Popconfirm>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="windows.length" class="muted foot">Times under “now” are in {{ zone() }}.</p>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
  <Modal
    :open="open"
    :title="changed ? `Edit ${changed.name}` : 'Create maintenance window'"
    :width="520"
    @cancel="open = false"
  >
    <form class="form" @submit.prevent="save">
      <label for="w-name">Name</label>
      <div>
        <Input id="w-name" v-model:value="form.name" :maxlength="100" /><em>{{
          saving.fault.value('name')
        }}</em>
      </div>
      <label for="w-instance">Instance</label>
      <div>
        <Input id="w-instance" v-model:value="form.instance" placeholder="a label; empty for a group" /><em>{{
          saving.fault.value('instance')
        }}</em>
      </div>
      <label for="w-group">or group</label>
      <Input id="w-group" v-model:value="form.group" />
      <span id="w-days">Days</span>
      <div role="group" aria-labelledby="w-days">
        <label v-for="day in DAYS" :key="day" class="day"
          ><input v-model="form.days" type="checkbox" :value="day" />{{ day.slice(0, 3) }}</label
        ><em>{{ saving.fault.value('days') }}</em>
      </div>
      <label for="w-start">Opens at</label>
      <div>
        <Input id="w-start" v-model:value="form.start" placeholder="01:30" /><em>{{
          saving.fault.value('start')
        }}</em>
      </div>
      <label for="w-minutes">Minutes</label>
      <div>
        <InputNumber
          id="w-minutes"
          :value="form.minutes"
          :min="1"
          :max="1440"
          @change="(minutes) => (form.minutes = Number(minutes))"
        /><em>{{ saving.fault.value('minutes') }}</em>
      </div>
      <label for="w-zone">Time zone</label>
      <div>
        <Input id="w-zone" v-model:value="form.time_zone" /><em>{{ saving.fault.value('time_zone') }}</em>
      </div>
    </form>
    <template #footer>
      <Button @click="open = false">Cancel</Button>
      <Button type="primary" :loading="saving.busy.value !== ''" @click="save">Save</Button>
    </template>
  </Modal>
</template>

<style scoped>
.add {
  margin-left: auto;
}
.form {
  display: grid;
  grid-template-columns: 90px 1fr;
  gap: 9px 10px;
  align-items: baseline;
}
em {
  color: var(--warn);
  font-style: normal;
  font-size: 13px;
}
.day {
  display: inline-flex;
  gap: 4px;
  margin-right: 10px;
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
