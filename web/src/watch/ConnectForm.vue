<script setup lang="ts">
import { Button, Checkbox, Input, InputPassword, Modal, Select, Textarea } from 'ant-design-vue'
import { computed, reactive, ref, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import type { Instance } from '../stores/roster'
import SettingFields from './SettingFields.vue'
import { given, typed, type Typed } from './settings'

/** Connects a server, or changes how one is reached. A test names the obstacles. */
const props = withDefaults(
  defineProps<{
    open: boolean
    instance: Instance | null
    credentials?: readonly Schemas['CredentialFigures'][]
  }>(),
  { credentials: () => [] },
)
const emit = defineEmits<{ close: []; saved: [] }>()

const TLS = [
  { value: 'prefer', label: 'when the server offers it' },
  { value: 'require', label: 'always' },
  { value: 'verify', label: 'always, and check the certificate' },
  { value: 'off', label: 'never' },
]
/** Stands for an account and password of its own. */
const OF_ITS_OWN = ''
const form = reactive({
  credential: OF_ITS_OWN,
  label: '',
  host: '',
  port: '5432',
  database: '',
  account: '',
  password: '',
  tls: 'prefer' as Schemas['TlsMode'],
  tls_ca: '',
  host_endpoint: '',
  host_secret: '',
  allows_plain_password: false,
})
const settings = ref<Typed>({})
/** The settings that there are: each is one row. */
const { loaded } = useLoaded(
  () => props.open,
  () => 0,
  () => answer(api.GET('/api/v1/instance-settings')),
)
const allSettings = computed(() => (loaded.value.state === 'loading' ? [] : (loaded.value.data ?? [])))
const { busy, problem, fault: faultOf, run } = useAction()
/** What the server says of a connection is told in whole, below the form. */
const isObstacle = computed(() => problem.value?.type.endsWith(':connection') ?? false)
const fault = (field: string) => (isObstacle.value ? '' : faultOf.value(field))
const trial = ref<Schemas['Trial'] | null>(null)

watch(
  () => props.open,
  (open) => {
    if (!open) return
    const known = props.instance
    const credential = props.credentials.find((one) => one.credential_id === known?.credential_id)
    Object.assign(form, {
      credential: credential?.name ?? OF_ITS_OWN,
      label: known?.label ?? '',
      host: known?.host ?? '',
      port: String(known?.port ?? 5432),
      database: known?.database ?? '',
      account: known?.account ?? '',
      password: '',
      tls: known?.tls ?? 'prefer',
      tls_ca: known?.tls_ca ?? '',
      host_endpoint: known?.host_endpoint ?? '',
      host_secret: '',
      allows_plain_password: known?.allows_plain_password ?? false,
    })
    settings.value = typed(known?.settings)
    problem.value = null
    trial.value = null
  },
  { immediate: true },
)
/** An empty password of a known instance keeps the stored one. */
const body = computed(() => ({
  ...form,
  // What is no port number is sent as 0, which the server refuses with its remedy.
  port: /^\d{1,5}$/.test(form.port) && Number(form.port) <= 65_535 ? Number(form.port) : 0,
  account: form.credential ? '' : form.account,
  password: form.credential || (props.instance && form.password === '') ? undefined : form.password,
  credential: form.credential || undefined,
  tls_ca: (form.tls === 'verify' && form.tls_ca.trim()) || undefined,
  host_endpoint: form.host_endpoint.trim() || undefined,
  host_secret: (form.host_endpoint.trim() && form.host_secret) || undefined,
  // Until it is known which there are, those of the instance stay.
  settings: allSettings.value.length ? given(allSettings.value, settings.value) : props.instance?.settings,
}))

/** The script for its administrator, for the version at hand, or one that every newer one takes. */
const script = computed(() => {
  const version = props.instance?.server_version?.split('.')[0] ?? '13'
  const asked = { version, account: form.account || 'hurnix_watch', database: form.database || 'postgres' }
  return `/api/v1/account-script?${new URLSearchParams({ ...asked, tables: 'true', host: 'true', log: 'true', access: 'true' })}`
})
const signsInWith = computed(() => [
  { value: OF_ITS_OWN, label: 'its own account' },
  ...props.credentials.map(({ name, account }) => ({ value: name, label: `${name} (${account})` })),
])

const tryOut = () =>
  run('trial', async () => {
    trial.value = null
    const path = { instance_id: props.instance?.instance_id ?? 0 }
    trial.value = await answer(
      props.instance
        ? api.POST('/api/v1/instances/{instance_id}/trial', { params: { path }, body: body.value })
        : api.POST('/api/v1/instances/trial', { body: body.value }),
    )
  })
async function save(): Promise<void> {
  trial.value = null
  const saved = await run('save', () =>
    props.instance
      ? answer(
          api.PUT('/api/v1/instances/{instance_id}', {
            params: { path: { instance_id: props.instance.instance_id } },
            body: body.value,
          }),
        )
      : answer(api.POST('/api/v1/instances', { body: body.value })),
  )
  if (saved) emit('saved')
}
</script>

<template>
  <Modal
    :open="open"
    :title="instance ? `Connection of ${instance.label}` : 'Add instance'"
    :width="560"
    @cancel="emit('close')"
  >
    <form class="form" @submit.prevent="save">
      <label for="c-label">Label</label>
      <div>
        <Input id="c-label" v-model:value="form.label" placeholder="its name on the roster" /><em>{{
          fault('label')
        }}</em>
      </div>
      <label for="c-host">Host</label>
      <div>
        <Input id="c-host" v-model:value="form.host" placeholder="name or address" /><em>{{
          fault('host')
        }}</em>
      </div>
      <label for="c-port">Port</label>
      <div>
        <Input id="c-port" v-model:value="form.port" /><em>{{ fault('port') }}</em>
      </div>
      <label for="c-database">Database</label>
      <div>
        <Input
          id="c-database"
          v-model:value="form.database"
          placeholder="tables and indexes are read here"
        /><em>{{ fault('database') }}</em>
      </div>
      <template v-if="credentials.length">
        <label for="c-credential">Credential</label>
        <div>
          <Select
            id="c-credential"
            :value="form.credential"
            :options="signsInWith"
            @change="(value) => (form.credential = String(value))"
          /><em>{{ fault('credential') }}</em>
        </div>
      </template>
      <template v-if="!form.credential">
        <label for="c-account">Account</label>
        <div>
          <Input id="c-account" v-model:value="form.account" placeholder="needs pg_monitor" /><em>{{
            fault('account')
          }}</em>
          <a :href="script" target="_blank" rel="noopener" class="script">SQL that creates this account</a>
        </div>
        <label for="c-password">Password</label>
        <div>
          <InputPassword
            id="c-password"
            v-model:value="form.password"
            autocomplete="off"
            :placeholder="instance ? 'leave empty to keep the stored one' : ''"
          /><em>{{ fault('password') }}</em>
        </div>
      </template>
      <label for="c-tls">Encryption</label>
      <div>
        <Select
          id="c-tls"
          :value="form.tls"
          :options="TLS"
          @change="(value) => (form.tls = value as Schemas['TlsMode'])"
        /><em>{{ fault('tls') }}</em>
        <template v-if="form.tls !== 'verify'">
          <Checkbox id="c-plain-password" v-model:checked="form.allows_plain_password" class="below"
            >the password may be sent in clear text or as MD5 (risky: nothing proves which server
            asks)</Checkbox
          ><em>{{ fault('allows_plain_password') }}</em>
        </template>
      </div>
      <template v-if="form.tls === 'verify'">
        <label for="c-tls-ca">Signed by</label>
        <div>
          <Textarea
            id="c-tls-ca"
            v-model:value="form.tls_ca"
            class="mono"
            :rows="3"
            placeholder="a CA that this machine trusts; otherwise its certificate: -----BEGIN CERTIFICATE----- …"
          /><em>{{ fault('tls_ca') }}</em>
        </div>
      </template>
      <label for="c-host-endpoint">Host exporter</label>
      <div>
        <Input
          id="c-host-endpoint"
          v-model:value="form.host_endpoint"
          placeholder="none: the host is seen through the server"
        /><em>{{ fault('host_endpoint') }}</em>
      </div>
      <template v-if="form.host_endpoint.trim()">
        <label for="c-host-secret">Authorization</label>
        <div>
          <InputPassword
            id="c-host-secret"
            v-model:value="form.host_secret"
            autocomplete="off"
            :placeholder="
              instance?.has_host_secret
                ? 'leave empty to keep the stored one'
                : 'what the exporter asks for, such as Bearer …; empty for nothing'
            "
          /><em>{{ fault('host_secret') }}</em>
        </div>
      </template>
      <SettingFields v-model="settings" :settings="allSettings" :fault="fault" />
    </form>
    <div v-if="problem" class="note trouble" role="alert" data-test="connect-problem">
      <b>{{ problem.title }}.</b> {{ problem.errors?.length && !isObstacle ? '' : problem.detail }}
    </div>
    <div v-if="trial" class="note" role="status">
      The connection works: PostgreSQL {{ trial.server_version }}.
      <p v-for="limit in trial.limits" :key="limit.figures">
        <b>Without {{ limit.figures }}.</b> {{ limit.reason }}<br /><code>{{ limit.remedy }}</code>
      </p>
      <template v-if="trial.limits.length === 0"> All figures are available.</template>
    </div>
    <template #footer>
      <Button :loading="busy === 'trial'" @click="tryOut">Test connection</Button>
      <Button type="primary" :loading="busy === 'save'" @click="save">{{ instance ? 'Save' : 'Add' }}</Button>
    </template>
  </Modal>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: 110px 1fr;
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
.below {
  margin-top: 6px;
}
.script {
  font-size: 12.5px;
}
.note {
  margin-top: 12px;
  padding: 8px 10px;
  border-left: 4px solid var(--plum);
  background: var(--sunk);
  white-space: pre-wrap;
}
.trouble {
  border-left-color: var(--warn);
}
.note p {
  margin: 6px 0 0;
}
</style>
