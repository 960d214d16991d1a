<script setup lang="ts">
import { Button, Input, InputPassword, Modal } from 'ant-design-vue'
import { reactive, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { clock } from '../format'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'
import { useUnsaved } from '../ui/useUnsaved'

type Credential = Schemas['CredentialFigures']

/** Stored credentials: accounts on watched servers that several instances sign in with. */
const props = defineProps<{ open: boolean; credentials: readonly Credential[] }>()
const emit = defineEmits<{ close: []; changed: [] }>()
const form = reactive({ name: '', account: '', password: '', hosts: '' })
const changing = ref<Credential | null>(null)
const { busy, problem, fault, run } = useAction()
/** What the form held when it was begun. */
const atFirst = ref(JSON.stringify(form))
const { mayLeave } = useUnsaved(() => props.open && JSON.stringify(form) !== atFirst.value)
async function close(): Promise<void> {
  if (!(await mayLeave())) return
  begin(null)
  emit('close')
}

function begin(credential: Credential | null): void {
  changing.value = credential
  Object.assign(form, {
    name: credential?.name ?? '',
    account: credential?.account ?? '',
    password: '',
    hosts: credential?.hosts.join(', ') ?? '',
  })
  atFirst.value = JSON.stringify(form)
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
const COLUMNS: Column<Credential>[] = [
  { key: 'name', title: 'name', value: (row) => row.name },
  { key: 'account', title: 'account', wide: true, value: (row) => row.account },
  {
    key: 'hosts',
    title: 'hosts',
    hint: 'hosts that it is sent to',
    value: (row) => row.hosts.join(', ') || 'any',
  },
  {
    key: 'changed',
    title: 'changed',
    number: true,
    value: (row) => row.changed_at,
    text: (row) => clock(row.changed_at, new Date(), false),
  },
  { key: 'used', title: 'instances', number: true, value: (row) => row.used_by },
]
</script>

<template>
  <Modal :open="open" title="Stored credentials" :width="760" :footer="null" @cancel="close">
    <p class="muted">
      Several instances can share a credential. Passwords are stored encrypted and never shown; a change
      applies to all instances that use the credential.
    </p>
    <DataTable
      name="credentials"
      test="credentials"
      plain
      :rows="credentials"
      :columns="COLUMNS"
      :row-key="(row) => row.credential_id"
    >
      <template #cell-name="{ row }"
        ><b>{{ row.name }}</b></template
      >
      <template #actions="{ row }">
        <div class="acts">
          <Button size="small" @click="begin(row)">Edit</Button>
          <ConfirmButton
            lost="It cannot be restored."
            action="Delete"
            :disabled="row.used_by > 0"
            @confirm="remove(row)"
          />
        </div>
      </template>
    </DataTable>
    <h2 class="what">{{ changing ? `Edit ${changing.name}` : 'Add credential' }}</h2>
    <form class="row" @submit.prevent="store">
      <label v-if="!changing"
        >name<Input v-model:value="form.name" name="credential" :maxlength="60" /><em
          v-if="fault('name')"
          role="alert"
          >{{ fault('name') }}</em
        ></label
      >
      <label
        >account<Input v-model:value="form.account" name="account" :maxlength="200" /><em
          v-if="fault('account')"
          role="alert"
          >{{ fault('account') }}</em
        ></label
      >
      <label
        >password<InputPassword
          v-model:value="form.password"
          name="secret"
          autocomplete="off"
          :placeholder="changing ? 'leave empty to keep it' : ''"
        /><em v-if="fault('password')" role="alert">{{ fault('password') }}</em></label
      >
      <label
        >sent to hosts<Input v-model:value="form.hosts" name="hosts" placeholder="any; or a, b, …" /><em
          v-if="fault('hosts')"
          role="alert"
          >{{ fault('hosts') }}</em
        ></label
      >
      <Button type="primary" html-type="submit" :loading="busy === 'store'">{{
        changing ? 'Save' : 'Add'
      }}</Button>
      <Button v-if="changing" @click="begin(null)">Cancel</Button>
    </form>
    <p v-if="problem && !problem.errors?.length" class="trouble" role="alert">{{ problem.detail }}</p>
  </Modal>
</template>

<style scoped>
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
  align-items: start;
}
.row > button {
  margin-top: 22px;
}
.row em {
  max-width: 170px;
  font-style: normal;
  color: var(--warn);
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
