<script setup lang="ts">
import { Button, Input, Modal, Popconfirm, Select } from 'ant-design-vue'
import { computed, reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useSort } from '../composables/useSort'
import SortHead from '../pictures/SortHead.vue'
import { useLoaded } from '../composables/useLoaded'
import { ago, clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import { rolesUpTo, type Role } from './roles'
import SessionsTable from './SessionsTable.vue'
import TellOnce from './TellOnce.vue'

type Account = Schemas['AccountFigures']

/** The accounts of all: what each may do, and where it is signed in. */
const roster = useRoster()
const session = useSession()
const { loaded, reload } = useLoaded(
  () => 'accounts',
  () => 0,
  () => answer(api.GET('/api/v1/accounts')),
)
const accounts = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const { sorted, sorting } = useSort(() => accounts.value ?? [], {
  name: (row: Account) => row.name,
  role: (row: Account) => row.role,
  groups: (row: Account) => row.groups.join(', '),
  made: (row: Account) => Date.parse(row.created_at),
  seen: (row: Account) => (row.seen_at ? Date.parse(row.seen_at) : null),
})
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
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <ProblemNote v-if="changing.problem.value" :problem="changing.problem.value" @retry="reload" />
  <TellOnce
    v-if="told"
    :what="`The one-time password of ${told.name}`"
    :secret="told.password"
    @close="told = null"
  />
  <div v-if="accounts" class="sheet">
    <table class="figures" data-test="accounts">
      <thead>
        <tr>
          <SortHead :sorting="sorting" column="name">name</SortHead>
          <SortHead :sorting="sorting" column="role">role</SortHead>
          <SortHead :sorting="sorting" column="groups" class="wide">instance groups</SortHead>
          <SortHead :sorting="sorting" column="made">created</SortHead>
          <SortHead :sorting="sorting" column="seen">last used</SortHead>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="account in sorted" :key="account.account_id">
          <td>
            <b>{{ account.name }}</b>
            <div v-if="account.one_time" class="muted one-time">has a one-time password</div>
          </td>
          <td role="group" :aria-label="`Role of ${account.name}`">
            <Select
              class="role"
              size="small"
              :value="account.role"
              :options="roleNames"
              @change="(role) => change(account, role as Role, account.groups)"
            />
          </td>
          <td class="wide" role="group" :aria-label="`Groups of ${account.name}`">
            <span v-if="account.role === 'administrator'" class="muted">all groups</span>
            <Select
              v-else
              class="groups"
              mode="tags"
              size="small"
              placeholder="all groups"
              :value="account.groups"
              :options="groups"
              @change="(chosen) => change(account, account.role, chosen as string[])"
            />
          </td>
          <td class="number">{{ clock(account.created_at, new Date(), false) }}</td>
          <td class="number">{{ account.seen_at ? ago(account.seen_at, new Date()) : 'never' }}</td>
          <td class="acts">
            <Button size="small" @click="showSessions(account)">Sessions</Button>
            <Popconfirm
              :title="`${account.name} is signed out everywhere and needs the new password.`"
              ok-text="Create"
              cancel-text="Cancel"
              @confirm="reset(account)"
            >
              <Button size="small">One-time password</Button>
            </Popconfirm>
            <Popconfirm
              :title="`Its sessions and tokens end at once. What ${account.name} did stays in the audit trail.`"
              ok-text="Delete"
              cancel-text="Cancel"
              @confirm="remove(account)"
            >
              <Button size="small" :disabled="account.name === session.current?.name">Delete</Button>
            </Popconfirm>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
  <Modal :open="open" title="Create account" :width="520" @cancel="open = false">
    <form class="form" @submit.prevent="add">
      <label for="a-name">Name</label>
      <div>
        <Input id="a-name" v-model:value="fresh.name" :maxlength="100" /><em>{{
          adding.fault.value('name')
        }}</em>
      </div>
      <label for="a-role">Role</label>
      <Select
        id="a-role"
        :value="fresh.role"
        :options="roles"
        @change="(role) => (fresh.role = role as Role)"
      />
      <template v-if="fresh.role !== 'administrator'">
        <label for="a-groups">Groups</label>
        <div>
          <Select
            id="a-groups"
            class="groups"
            mode="tags"
            placeholder="all groups"
            :value="fresh.groups"
            :options="groups"
            @change="(chosen) => (fresh.groups = chosen as string[])"
          /><em>{{ adding.fault.value('groups') }}</em>
        </div>
      </template>
    </form>
    <p v-if="adding.problem.value && !adding.problem.value.errors?.length" class="trouble" role="alert">
      {{ adding.problem.value.detail }}
    </p>
    <template #footer>
      <Button @click="open = false">Cancel</Button>
      <Button type="primary" :disabled="!fresh.name.trim()" :loading="adding.busy.value !== ''" @click="add"
        >Create</Button
      >
    </template>
  </Modal>
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
.wide {
  width: 40%;
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
.form {
  display: grid;
  grid-template-columns: 70px 1fr;
  gap: 10px;
  align-items: start;
}
.form label {
  padding-top: 3px;
}
em {
  color: var(--warn);
  font-style: normal;
  font-size: 12.5px;
}
.trouble {
  color: var(--warn);
  margin-top: 10px;
}
</style>
