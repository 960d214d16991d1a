<script setup lang="ts">
import { Button, Input, Modal, Select } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { ago, clock } from '../format'
import { useActions } from '../frame/pageActions'
import ProblemNote from '../pictures/ProblemNote.vue'
import PageState from '../ui/PageState.vue'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import FormDialog from '../ui/FormDialog.vue'
import FormField from '../ui/FormField.vue'
import type { Column } from '../ui/table'
import { rolesUpTo, type Role } from './roles'
import SessionsTable from './SessionsTable.vue'
import TellOnce from './TellOnce.vue'

type Account = Schemas['AccountFigures']

/** The accounts of all: what each may do, and where it is signed in. */
const roster = useRoster()
const session = useSession()
const {
  loaded,
  data: accounts,
  reload,
} = useLoaded(
  () => 'accounts',
  () => 0,
  () => answer(api.GET('/api/v1/accounts')),
)
const COLUMNS: Column<Account>[] = [
  { key: 'name', title: 'name', value: (row) => row.name },
  { key: 'role', title: 'role', value: (row) => row.role },
  {
    key: 'groups',
    title: 'instance groups',
    wide: true,
    value: (row) => (row.role === 'administrator' ? 'all groups' : row.groups.join(', ')),
  },
  {
    key: 'made',
    title: 'created',
    number: true,
    value: (row) => row.created_at,
    text: (row) => clock(row.created_at, new Date(), false),
  },
  {
    key: 'seen',
    title: 'last used',
    number: true,
    value: (row) => row.seen_at,
    text: (row) => (row.seen_at ? ago(row.seen_at, new Date()) : 'never'),
  },
]
const roles = rolesUpTo('administrator')
/** In the table, where there is less room. */
const roleNames = roles.map(({ value }) => ({ value, label: value }))
/** Groups that instances or accounts have already; others may be typed. */
const groups = computed(() => {
  const known = new Set<string>()
  roster.instances.forEach((instance) => instance.group && known.add(instance.group))
  accounts.value?.forEach((account) => account.groups.forEach((group) => known.add(group)))
  return [...known].sort().map((value) => ({ value, label: value }))
})

const changing = useAction()
async function change(account: Account, role: Role, limitedTo: string[]): Promise<void> {
  const path = { account_id: account.account_id }
  const body = { role, groups: role === 'administrator' ? [] : limitedTo }
  await changing.run(`change ${account.name}`, () =>
    answer(api.PUT('/api/v1/accounts/{account_id}', { params: { path }, body })),
  )
  await reload()
}
async function remove(account: Account): Promise<void> {
  const path = { account_id: account.account_id }
  await changing.run(`remove ${account.name}`, () =>
    answer(api.DELETE('/api/v1/accounts/{account_id}', { params: { path } })),
  )
  await reload()
}
const told = ref<{ name: string; password: string } | null>(null)
async function reset(account: Account): Promise<void> {
  const path = { account_id: account.account_id }
  await changing.run(`reset ${account.name}`, async () => {
    const made = await answer(
      api.POST('/api/v1/accounts/{account_id}/one-time-password', { params: { path } }),
    )
    told.value = { name: account.name, password: made.password }
  })
  await reload()
}

const open = ref(false)
useActions(() => [{ title: 'Create account', run: () => (open.value = true) }])
const fresh = reactive({ name: '', role: 'reader' as Role, groups: [] as string[] })
const adding = useAction()
async function add(): Promise<void> {
  const body = { ...fresh, groups: fresh.role === 'administrator' ? [] : fresh.groups }
  const added = await adding.run('add', async () => {
    const made = await answer(api.POST('/api/v1/accounts', { body }))
    told.value = { name: fresh.name.trim(), password: made.password }
  })
  if (!added) return
  open.value = false
  Object.assign(fresh, { name: '', role: 'reader', groups: [] })
  await reload()
}

const watched = ref<{ account: Account; sessions: Schemas['SessionFigures'][] } | null>(null)
async function showSessions(account: Account): Promise<void> {
  const path = { account_id: account.account_id }
  await changing.run(`sessions ${account.name}`, async () => {
    const sessions = await answer(api.GET('/api/v1/accounts/{account_id}/sessions', { params: { path } }))
    watched.value = { account, sessions }
  })
}
async function endSession(session_id: number): Promise<void> {
  const account = watched.value?.account
  if (!account) return
  const path = { account_id: account.account_id, session_id }
  const ended = await changing.run(`session ${session_id}`, () =>
    answer(api.DELETE('/api/v1/accounts/{account_id}/sessions/{session_id}', { params: { path } })),
  )
  if (ended) await showSessions(account)
}
</script>

<template>
  <div class="page-head">
    <h1>Accounts</h1>
    <span class="muted">Who may do what, and on which instances</span>
    <Button type="primary" class="add" @click="open = true">Create account</Button>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="changing.problem.value" :problem="changing.problem.value" @retry="reload" />
  <TellOnce
    v-if="told"
    :what="`The one-time password of ${told.name}`"
    :secret="told.password"
    @close="told = null"
  />
  <div v-if="accounts" class="sheet">
    <DataTable
      name="accounts"
      test="accounts"
      :rows="accounts"
      :columns="COLUMNS"
      :row-key="(row) => row.account_id"
      one="account"
    >
      <template #cell-name="{ row }">
        <b>{{ row.name }}</b>
        <div v-if="row.one_time" class="muted one-time">has a one-time password</div>
      </template>
      <template #cell-role="{ row }">
        <div role="group" :aria-label="`Role of ${row.name}`">
          <Select
            class="role"
            size="small"
            :value="row.role"
            :options="roleNames"
            @change="(role) => change(row, role as Role, row.groups)"
          />
        </div>
      </template>
      <template #cell-groups="{ row }">
        <div role="group" :aria-label="`Groups of ${row.name}`">
          <span v-if="row.role === 'administrator'" class="muted">all groups</span>
          <Select
            v-else
            class="groups"
            mode="tags"
            size="small"
            placeholder="all groups"
            :value="row.groups"
            :options="groups"
            @change="(chosen) => change(row, row.role, chosen as string[])"
          />
        </div>
      </template>
      <template #actions="{ row }">
        <div class="acts">
          <Button size="small" @click="showSessions(row)">Sessions</Button>
          <ConfirmButton
            :lost="`${row.name} is signed out everywhere and needs the new password.`"
            action="Create"
            label="One-time password"
            @confirm="reset(row)"
          />
          <ConfirmButton
            :lost="`Its sessions and tokens end at once. What ${row.name} did stays in the audit trail.`"
            action="Delete"
            :disabled="row.name === session.current?.name"
            @confirm="remove(row)"
          />
        </div>
      </template>
    </DataTable>
  </div>
  <FormDialog
    :open="open"
    title="Create account"
    :values="fresh"
    submit="Create"
    :busy="adding.busy.value !== ''"
    :disabled="!fresh.name.trim()"
    :problem="adding.problem.value"
    @submit="add"
    @close="open = false"
  >
    <FormField label="Name" for="a-name" :fault="adding.fault.value('name')">
      <Input id="a-name" v-model:value="fresh.name" :maxlength="100" />
    </FormField>
    <FormField label="Role" for="a-role" :fault="adding.fault.value('role')">
      <Select
        id="a-role"
        :value="fresh.role"
        :options="roles"
        @change="(role) => (fresh.role = role as Role)"
      />
    </FormField>
    <FormField
      v-if="fresh.role !== 'administrator'"
      label="Groups"
      for="a-groups"
      :fault="adding.fault.value('groups')"
    >
      <Select
        id="a-groups"
        class="groups"
        mode="tags"
        placeholder="all groups"
        :value="fresh.groups"
        :options="groups"
        @change="(chosen) => (fresh.groups = chosen as string[])"
      />
    </FormField>
  </FormDialog>
  <Modal
    :open="watched !== null"
    :title="`Sessions of ${watched?.account.name}`"
    :width="820"
    :footer="null"
    @cancel="watched = null"
  >
    <template v-if="watched">
      <p v-if="watched.sessions.length === 0" class="muted">This account has no session.</p>
      <SessionsTable v-else :sessions="watched.sessions" :busy="changing.busy.value" @end="endSession" />
    </template>
  </Modal>
</template>

<style scoped>
.add {
  margin-left: auto;
}
.one-time {
  white-space: nowrap;
}
.role {
  width: 140px;
}
.groups {
  width: 100%;
}
.acts {
  white-space: nowrap;
}
.acts > * {
  margin-left: 6px;
}
</style>
