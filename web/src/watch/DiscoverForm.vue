<script setup lang="ts">
import { Button, Checkbox, Input, InputPassword, Modal, Select } from 'ant-design-vue'
import { computed, reactive, ref, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { bytes, counted } from '../format'
import { useUnsaved } from '../ui/useUnsaved'
import { typedPort } from './port'

/** Looks for servers at ports of one host, and for databases on them; adds those that are picked. */
const props = defineProps<{ open: boolean; credentials: readonly Schemas['CredentialFigures'][] }>()
const emit = defineEmits<{ close: []; changed: [] }>()
/** Ports that are looked at in one request, so that looking can be stopped. */
const AT_A_TIME = 16
const OF_ITS_OWN = ''

const form = reactive({
  host: '',
  from_port: '5432',
  to_port: '5447',
  credential: OF_ITS_OWN,
  account: 'hurnix_watch',
  password: '',
})
const servers = ref<Schemas['FoundServer'][]>([])
const looked = ref(0)
const looking = ref(false)
const databases = ref<{ port: number; found: Schemas['FoundDatabase'][] } | null>(null)
const picked = ref<string[]>([])
const added = ref<Schemas['BroughtIn'] | null>(null)
const { busy, problem, fault, run } = useAction()
/** Databases are picked, or a password is typed, and nothing is added yet. */
const { mayLeave } = useUnsaved(
  () => props.open && !added.value && (picked.value.length > 0 || form.password !== ''),
)
async function close(): Promise<void> {
  if (await mayLeave()) emit('close')
}

watch(
  () => props.open,
  (open) => {
    looking.value = false
    if (!open) return
    servers.value = []
    looked.value = 0
    form.password = ''
    picked.value = []
    databases.value = added.value = problem.value = null
    form.credential = props.credentials[0]?.name ?? OF_ITS_OWN
  },
)
const signsInWith = computed(() => [
  { value: OF_ITS_OWN, label: 'an account with its password' },
  ...props.credentials.map(({ name, account }) => ({ value: name, label: `${name} (${account})` })),
])
const [first, last] = [computed(() => typedPort(form.from_port)), computed(() => typedPort(form.to_port))]
const ports = computed(() => Math.max(0, last.value - first.value + 1))

async function look(): Promise<void> {
  servers.value = []
  databases.value = added.value = null
  looked.value = 0
  looking.value = true
  // Ports in the wrong order are asked for once, and the server says what is wrong with them.
  const end = Math.max(first.value, last.value)
  for (let from = first.value; looking.value && from <= end; from += AT_A_TIME) {
    const body = { host: form.host, from_port: from, to_port: Math.min(from + AT_A_TIME - 1, last.value) }
    const well = await run('look', async () => {
      servers.value.push(...(await answer(api.POST('/api/v1/discovery/servers', { body }))))
    })
    if (!well) break
    looked.value += body.to_port - body.from_port + 1
  }
  looking.value = false
}
const signIn = computed(() =>
  form.credential ? { credential: form.credential } : { account: form.account, password: form.password },
)
async function list(port: number): Promise<void> {
  picked.value = []
  added.value = null
  const body = {
    label: form.host,
    host: form.host,
    port,
    database: 'postgres',
    tls: 'prefer' as const,
    ...signIn.value,
  }
  await run(`list ${port}`, async () => {
    databases.value = { port, found: await answer(api.POST('/api/v1/discovery/databases', { body })) }
  })
}
/** One instance for each database that was picked, called after host and database. */
async function take(): Promise<void> {
  const port = databases.value?.port
  const rows = picked.value.map((database) => ({
    label: `${form.host}:${port}/${database}`,
    host: form.host,
    port,
    database,
    ...signIn.value,
  }))
  const done = await run('take', async () => {
    const body = { format: 'json' as const, text: JSON.stringify(rows) }
    added.value = await answer(api.POST('/api/v1/instance-lists', { body }))
  })
  if (done) emit('changed')
}
</script>

<template>
  <Modal :open="open" title="Discover servers" :width="680" :footer="null" @cancel="close">
    <p class="muted">
      Hurnix checks the ports of one host one after the other, with one harmless request to whatever listens
      there.
    </p>
    <form class="row" @submit.prevent="look">
      <label class="host"
        >host<Input v-model:value="form.host" name="host" placeholder="name or address" /><em
          v-if="fault('host')"
          role="alert"
          >{{ fault('host') }}</em
        ></label
      >
      <label>from port<Input v-model:value="form.from_port" name="from" /></label>
      <label>to port<Input v-model:value="form.to_port" name="to" /></label>
      <Button v-if="!looking" type="primary" html-type="submit">Start</Button>
      <Button v-else @click="looking = false">Stop</Button>
    </form>
    <p v-if="fault('to_port')" class="trouble" role="alert">{{ fault('to_port') }}</p>
    <p v-if="looking || looked" class="muted" role="status" data-test="looked">
      {{ looked }} of {{ counted(ports, 'port') }} checked{{ looking ? ' …' : '' }},
      {{ counted(servers.length, 'server') }} found
    </p>
    <p v-if="problem && !fault('host') && !fault('to_port')" class="trouble" role="alert">
      {{ problem.errors?.[0]?.remedy ?? problem.detail }}
    </p>
    <template v-if="servers.length">
      <div class="row">
        <label
          >sign in with<Select
            class="with"
            :value="form.credential"
            :options="signsInWith"
            @change="(value) => (form.credential = String(value))"
        /></label>
        <template v-if="!form.credential">
          <label>account<Input v-model:value="form.account" name="account" /></label>
          <label
            >password<InputPassword v-model:value="form.password" name="secret" autocomplete="off"
          /></label>
        </template>
      </div>
      <table class="figures" data-test="servers">
        <tbody>
          <tr v-for="server in servers" :key="server.port">
            <td class="mono">{{ form.host }}:{{ server.port }}</td>
            <td class="wide muted">
              {{ server.offers_tls ? 'offers encryption' : 'offers no encryption'
              }}<template v-if="server.known_as.length">
                · known as {{ server.known_as.join(', ') }}</template
              >
            </td>
            <td>
              <Button size="small" :loading="busy === `list ${server.port}`" @click="list(server.port)"
                >List databases</Button
              >
            </td>
          </tr>
        </tbody>
      </table>
    </template>
    <template v-if="databases">
      <h2 class="what">Databases at port {{ databases.port }}</h2>
      <Checkbox.Group :value="picked" class="picks" @change="(chosen) => (picked = chosen.map(String))">
        <div v-for="database in databases.found" :key="database.name">
          <Checkbox :value="database.name" :disabled="database.is_known || !database.may_connect">{{
            database.name
          }}</Checkbox>
          <span class="muted">
            {{ bytes(database.size_bytes) }}{{ database.is_known ? ' · already on the roster' : ''
            }}{{ database.may_connect ? '' : ' · the account may not connect to it' }}
          </span>
        </div>
      </Checkbox.Group>
      <p v-if="added" role="status">
        {{ counted(added.added, 'instance') }} added.
        <span v-for="row in added.left_out" :key="row.label"
          >{{ row.label }}: {{ row.problems[0]?.remedy }}
        </span>
      </p>
      <Button v-else type="primary" :disabled="picked.length === 0" :loading="busy === 'take'" @click="take"
        >Add {{ counted(picked.length, 'database') }}</Button
      >
    </template>
  </Modal>
</template>

<style scoped>
.row {
  display: flex;
  gap: 10px;
  align-items: start;
  margin-bottom: 10px;
}
.row em {
  font-style: normal;
  color: var(--warn);
}
.row > button {
  margin-top: 22px;
}
.row label {
  display: grid;
  gap: 2px;
  font-size: 12.5px;
  color: var(--muted);
  width: 110px;
}
.row label.host {
  flex: 1;
}
.row label:has(.with) {
  width: 230px;
}
.wide {
  width: 60%;
}
.what {
  margin-top: 14px;
}
.picks {
  display: block;
  max-height: 220px;
  overflow-y: auto;
  margin-bottom: 10px;
}
.trouble {
  color: var(--warn);
  white-space: pre-wrap;
}
</style>
