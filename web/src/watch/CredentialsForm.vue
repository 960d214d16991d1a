<script setup lang="ts">
import { Button, Input, InputPassword, Modal, Popconfirm } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useSort } from '../composables/useSort'
import SortHead from '../pictures/SortHead.vue'
import { clock } from '../format'

type Credential = Schemas['CredentialFigures']

/** Stored credentials: accounts on watched servers that several instances sign in with. */
const props = defineProps<{ open: boolean; credentials: readonly Credential[] }>()
const emit = defineEmits<{ close: []; changed: [] }>()
const form = reactive({ name: '', account: '', password: '', hosts: '' })
const changing = ref<Credential | null>(null)
const { busy, problem, run } = useAction()

function begin(credential: Credential | null): void {
  changing.value = credential
  Object.assign(form, {
    name: credential?.name ?? '',
    account: credential?.account ?? '',
    password: '',
    hosts: credential?.hosts.join(', ') ?? '',
  })
  problem.value = null
}
async function store(): Promise<void> {
  const known = changing.value
  const hosts = form.hosts.split(/[\s,]+/).filter(Boolean)
  const stored = await run('store', () =>
    known
      ? answer(
          api.PUT('/api/v1/credentials/{credential_id}', {
            params: { path: { credential_id: known.credential_id } },
            body: { account: form.account, password: form.password || undefined, hosts },
          }),
        )
      : answer(api.POST('/api/v1/credentials', { body: { ...form, hosts } })),
  )
  if (!stored) return
  begin(null)
  emit('changed')
}
async function remove(credential: Credential): Promise<void> {
  const path = { credential_id: credential.credential_id }
  const removed = await run(`remove ${credential.name}`, () =>
    answer(api.DELETE('/api/v1/credentials/{credential_id}', { params: { path } })),
  )
  if (removed) emit('changed')
}
const { sorted, sorting } = useSort(() => props.credentials, {
  name: (row: Schemas['CredentialFigures']) => row.name,
  account: (row: Schemas['CredentialFigures']) => row.account,
  hosts: (row: Schemas['CredentialFigures']) => row.hosts.join(', '),
  changed: (row: Schemas['CredentialFigures']) => Date.parse(row.changed_at),
  used: (row: Schemas['CredentialFigures']) => row.used_by,
})
</script>

<template>
  <Modal :open="open" title="Stored credentials" :width="760" :footer="null" @cancel="emit('close')">
    <p class="muted">
      Several instances can share a credential. Passwords are stored encrypted and never shown; a change
      applies to all instances that use the credential.
    </p>
    <table v-if="credentials.length" class="figures" data-test="credentials">
      <thead>
        <tr>
          <SortHead :sorting="sorting" column="name">name</SortHead>
          <SortHead :sorting="sorting" column="account" class="wide">account</SortHead>
          <SortHead :sorting="sorting" column="hosts" hint="hosts that it may be sent to">hosts</SortHead>
          <SortHead :sorting="sorting" column="changed">changed</SortHead>
          <SortHead :sorting="sorting" column="used" number>instances</SortHead>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="credential in sorted" :key="credential.credential_id">
          <td>
            <b>{{ credential.name }}</b>
          </td>
          <td class="wide">{{ credential.account }}</td>
          <td>{{ credential.hosts.join(', ') || 'any' }}</td>
          <td class="number">{{ clock(credential.changed_at, new Date(), false) }}</td>
          <td class="number">{{ credential.used_by }}</td>
          <td class="acts">
            <Button size="small" @click="begin(credential)">Edit</Button>
            <Popconfirm
              title="It cannot be restored."
              ok-text="Delete"
              cancel-text="Cancel"
              @confirm="remove(credential)"
            >
              <Button size="small" :disabled="credential.used_by > 0">Delete</Button>
            </Popconfirm>
          </td>
        </tr>
      </tbody>
    </table>
    <h2 class="what">{{ changing ? `Edit ${changing.name}` : 'Add credential' }}</h2>
    <form class="row" @submit.prevent="store">
      <label v-if="!changing"
        >name<Input v-model:value="form.name" name="credential" :maxlength="60"
      /></label>
      <label>account<Input v-model:value="form.account" name="account" :maxlength="200" /></label>
      <label
        >password<InputPassword
          v-model:value="form.password"
          name="secret"
          autocomplete="off"
          :placeholder="changing ? 'leave empty to keep it' : ''"
      /></label>
      <label
        >sent to hosts<Input v-model:value="form.hosts" name="hosts" placeholder="any; or a, b, …"
      /></label>
      <Button type="primary" html-type="submit" :loading="busy === 'store'">{{
        changing ? 'Save' : 'Add'
      }}</Button>
      <Button v-if="changing" @click="begin(null)">Cancel</Button>
    </form>
    <p v-if="problem" class="trouble" role="alert">
      {{ problem.errors?.map((error) => error.remedy).join(' ') || problem.detail }}
    </p>
  </Modal>
</template>

<style scoped>
.wide {
  width: 40%;
}
.acts {
  white-space: nowrap;
}
.acts > * {
  margin-left: 6px;
}
.what {
  margin-top: 14px;
}
.row {
  display: flex;
  gap: 10px;
  align-items: end;
}
.row label {
  display: grid;
  gap: 2px;
  font-size: 12.5px;
  color: var(--muted);
}
.trouble {
  color: var(--warn);
  margin-top: 8px;
}
</style>
