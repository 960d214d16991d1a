<script setup lang="ts">
import { Button, Checkbox, Input, InputPassword, Select, Textarea } from 'ant-design-vue'
import { computed, reactive, ref, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import type { Instance } from '../stores/roster'
import FormDialog from '../ui/FormDialog.vue'
import FormField from '../ui/FormField.vue'
import { typedPort } from './port'
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
  port: typedPort(form.port),
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
  <FormDialog
    :open="open"
    :title="instance ? `Connection of ${instance.label}` : 'Add instance'"
    :values="[form, settings]"
    :submit="instance ? 'Save' : 'Add'"
    :busy="busy === 'save'"
    :problem="problem"
    :whole-problem="isObstacle"
    :width="560"
    @submit="save"
    @close="emit('close')"
  >
    <FormField label="Label" for="c-label" :fault="fault('label')">
      <Input id="c-label" v-model:value="form.label" placeholder="its name on the roster" />
    </FormField>
    <FormField label="Host" for="c-host" :fault="fault('host')">
      <Input id="c-host" v-model:value="form.host" placeholder="name or address" />
    </FormField>
    <FormField label="Port" for="c-port" :fault="fault('port')">
      <Input id="c-port" v-model:value="form.port" />
    </FormField>
    <FormField label="Database" for="c-database" :fault="fault('database')">
      <Input id="c-database" v-model:value="form.database" placeholder="tables and indexes are read here" />
    </FormField>
    <FormField v-if="credentials.length" label="Credential" for="c-credential" :fault="fault('credential')">
      <Select
        id="c-credential"
        :value="form.credential"
        :options="signsInWith"
        @change="(value) => (form.credential = String(value))"
      />
    </FormField>
    <template v-if="!form.credential">
      <FormField label="Account" for="c-account" :fault="fault('account')">
        <Input id="c-account" v-model:value="form.account" placeholder="needs pg_monitor" />
        <a :href="script" target="_blank" rel="noopener" class="script">SQL that creates this account</a>
      </FormField>
      <FormField label="Password" for="c-password" :fault="fault('password')">
        <InputPassword
          id="c-password"
          v-model:value="form.password"
          autocomplete="off"
          :placeholder="instance ? 'leave empty to keep the stored one' : ''"
        />
      </FormField>
    </template>
    <FormField label="Encryption" for="c-tls" :fault="fault('tls') || fault('allows_plain_password')">
      <Select
        id="c-tls"
        :value="form.tls"
        :options="TLS"
        @change="(value) => (form.tls = value as Schemas['TlsMode'])"
      />
      <Checkbox
        v-if="form.tls !== 'verify'"
        id="c-plain-password"
        v-model:checked="form.allows_plain_password"
        class="below"
        >the password may be sent in clear text or as MD5 (risky: nothing proves which server asks)</Checkbox
      >
    </FormField>
    <FormField v-if="form.tls === 'verify'" label="Signed by" for="c-tls-ca" :fault="fault('tls_ca')">
      <Textarea
        id="c-tls-ca"
        v-model:value="form.tls_ca"
        class="mono"
        :rows="3"
        placeholder="a CA that this machine trusts; otherwise its certificate: -----BEGIN CERTIFICATE----- …"
      />
    </FormField>
    <FormField label="Host exporter" for="c-host-endpoint" :fault="fault('host_endpoint')">
      <Input
        id="c-host-endpoint"
        v-model:value="form.host_endpoint"
        placeholder="none: the host is seen through the server"
      />
    </FormField>
    <FormField
      v-if="form.host_endpoint.trim()"
      label="Authorization"
      for="c-host-secret"
      :fault="fault('host_secret')"
    >
      <InputPassword
        id="c-host-secret"
        v-model:value="form.host_secret"
        autocomplete="off"
        :placeholder="
          instance?.has_host_secret
            ? 'leave empty to keep the stored one'
            : 'such as Bearer …; empty for none'
        "
      />
    </FormField>
    <SettingFields v-model="settings" :settings="allSettings" :fault="fault" />
    <template #below>
      <div v-if="trial" class="note" role="status">
        The connection works: PostgreSQL {{ trial.server_version }}.
        <p v-for="limit in trial.limits" :key="limit.figures">
          <b>Without {{ limit.figures }}.</b> {{ limit.reason }}<br /><code>{{ limit.remedy }}</code>
        </p>
        <template v-if="trial.limits.length === 0"> All figures are available.</template>
      </div>
    </template>
    <template #buttons>
      <Button :loading="busy === 'trial'" @click="tryOut">Test connection</Button>
    </template>
  </FormDialog>
</template>

<style scoped>
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
.note p {
  margin: 6px 0 0;
}
</style>
