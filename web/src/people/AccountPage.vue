<script setup lang="ts">
import { Button, Input, InputNumber, InputPassword, Select } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { ago, clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import PageState from '../ui/PageState.vue'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'
import { ROLES, rolesUpTo, type Role } from './roles'
import SessionsTable from './SessionsTable.vue'
import TellOnce from './TellOnce.vue'

/** One's own account: its password, where it is signed in, and its tokens. */
const session = useSession()
const {
  loaded,
  data: own,
  reload,
} = useLoaded(
  () => 'account',
  () => 0,
  async () => {
    const [sessions, tokens] = await Promise.all([
      answer(api.GET('/api/v1/account/sessions')),
      answer(api.GET('/api/v1/account/tokens')),
    ])
    return { sessions, tokens }
  },
)

const password = reactive({ current: '', fresh: '', again: '' })
const setting = useAction()
const changed = ref(false)
async function changePassword(): Promise<void> {
  changed.value = false
  const body = { current: password.current, new: password.fresh }
  if (!(await setting.run('set', () => answer(api.PUT('/api/v1/account/password', { body }))))) return
  Object.assign(password, { current: '', fresh: '', again: '' })
  changed.value = true
  await reload()
}

const token = reactive({ name: '', role: 'reader' as Role, days: 90 })
const making = useAction()
const made = ref('')
async function makeToken(): Promise<void> {
  const ok = await making.run('make', async () => {
    made.value = (await answer(api.POST('/api/v1/account/tokens', { body: token }))).token
  })
  if (!ok) return
  token.name = ''
  await reload()
}
const ending = useAction()
async function end(what: 'session' | 'token', id: number): Promise<void> {
  const ended = await ending.run(`${what} ${id}`, () =>
    what === 'session'
      ? answer(api.DELETE('/api/v1/account/sessions/{session_id}', { params: { path: { session_id: id } } }))
      : answer(api.DELETE('/api/v1/account/tokens/{token_id}', { params: { path: { token_id: id } } })),
  )
  if (ended) await reload()
}
type Token = Schemas['TokenFigures']
const COLUMNS: Column<Token>[] = [
  { key: 'name', title: 'name', wide: true, value: (row) => row.name },
  { key: 'role', title: 'role', value: (row) => row.role },
  {
    key: 'made',
    title: 'created',
    number: true,
    value: (row) => row.made_at,
    text: (row) => clock(row.made_at, new Date(), false),
  },
  {
    key: 'seen',
    title: 'last used',
    number: true,
    value: (row) => row.seen_at,
    text: (row) => (row.seen_at ? ago(row.seen_at, new Date()) : 'never'),
  },
  {
    key: 'expires',
    title: 'expires',
    number: true,
    value: (row) => row.expires_at,
    text: (row) =>
      new Date(row.expires_at) < new Date() ? 'expired' : clock(row.expires_at, new Date(), false),
  },
]
</script>

<template>
  <div class="page-head">
    <h1>{{ session.current?.name }}</h1>
    <span class="muted"
      >{{ session.current && ROLES[session.current.role].long
      }}<template v-if="session.current?.groups.length">
        · sees the instances of {{ session.current.groups.join(', ') }}</template
      ></span
    >
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="ending.problem.value" :problem="ending.problem.value" @retry="reload" />
  <div class="sheet">
    <h2>Password</h2>
    <form class="row" @submit.prevent="changePassword">
      <label
        >current<InputPassword
          v-model:value="password.current"
          name="current"
          autocomplete="current-password"
      /></label>
      <label
        >new<InputPassword v-model:value="password.fresh" name="new" autocomplete="new-password"
      /></label>
      <label
        >new, again<InputPassword v-model:value="password.again" name="again" autocomplete="new-password"
      /></label>
      <Button
        html-type="submit"
        :disabled="!password.current || !password.fresh || password.fresh !== password.again"
        :loading="setting.busy.value !== ''"
        >Change password</Button
      >
    </form>
    <p v-if="password.again && password.fresh !== password.again" class="trouble">
      The two new passwords differ.
    </p>
    <p v-else-if="setting.problem.value" class="trouble" role="alert">
      {{ setting.fault.value('current') || setting.fault.value('new') || setting.problem.value.detail }}
    </p>
    <p v-else-if="changed" role="status">Changed. All other sessions have ended.</p>
    <p v-else class="muted">10 characters or more. Changing it ends all other sessions.</p>
  </div>
  <div v-if="own" class="sheet">
    <h2>Signed-in sessions</h2>
    <SessionsTable :sessions="own.sessions" :busy="ending.busy.value" @end="(id) => end('session', id)" />
  </div>
  <TellOnce
    v-if="made"
    what="The token, to be sent as Authorization: Bearer …"
    :secret="made"
    @close="made = ''"
  />
  <div v-if="own" class="sheet">
    <h2>Tokens</h2>
    <p class="muted">
      A token lets a program use the API as you, with the lesser of the token's role and yours.
      <a href="/api/openapi.json">API reference</a>
    </p>
    <DataTable
      name="tokens"
      test="tokens"
      plain
      :rows="own.tokens"
      :columns="COLUMNS"
      :row-key="(row) => row.token_id"
    >
      <template #actions="{ row }">
        <ConfirmButton
          :lost="`Programs that use “${row.name}” lose access at once.`"
          action="Delete"
          :loading="ending.busy.value === `token ${row.token_id}`"
          @confirm="end('token', row.token_id)"
        />
      </template>
    </DataTable>
    <form class="row" @submit.prevent="makeToken">
      <label
        >what it is for<Input
          v-model:value="token.name"
          name="token"
          :maxlength="60"
          placeholder="nightly report"
      /></label>
      <label
        >role<Select
          :value="token.role"
          :options="rolesUpTo(session.current?.role ?? 'reader')"
          @change="(value) => (token.role = value as Role)"
      /></label>
      <label
        >days<InputNumber
          :value="token.days"
          :min="1"
          :max="400"
          @change="(value) => (token.days = Number(value))"
      /></label>
      <Button html-type="submit" :disabled="!token.name.trim()" :loading="making.busy.value !== ''"
        >Create token</Button
      >
    </form>
    <p v-if="making.problem.value" class="trouble" role="alert">{{ making.problem.value.detail }}</p>
  </div>
</template>

<style scoped>
.row {
  display: flex;
  gap: 12px;
  align-items: end;
  margin: 8px 0;
}
.row label {
  display: grid;
  gap: 2px;
  font-size: 12.5px;
  color: var(--muted);
  min-width: 120px;
}
.trouble {
  color: var(--warn);
}
</style>
