<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { ago, bytes, counted, clock, number, percent } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import MiniStrip from '../pictures/MiniStrip.vue'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useRoster, type Instance } from '../stores/roster'
import { useSession } from '../stores/session'
import ConnectForm from './ConnectForm.vue'
import { useActions } from '../frame/pageActions'
import CredentialsForm from './CredentialsForm.vue'
import DiscoverForm from './DiscoverForm.vue'
import InstanceGroup from './InstanceGroup.vue'
import ListForm from './ListForm.vue'
import ConfirmButton from '../ui/ConfirmButton.vue'

const roster = useRoster()
const session = useSession()
const administrator = computed(() => session.current?.role === 'administrator')
const editing = ref<Instance | null>(null)
const open = ref(false)
function edit(instance: Instance | null): void {
  editing.value = instance
  open.value = true
}
const groups = computed(() => [...new Set(roster.instances.flatMap((one) => one.group ?? []))].sort())
const nobody = computed(() => {
  if (administrator.value)
    return 'There is no instance yet. Add the first one: an account with pg_monitor is enough.'
  const limitedTo = session.current?.groups ?? []
  return limitedTo.length
    ? `No instance is in ${limitedTo.join(', ')} yet, which is what your account sees. Ask an administrator.`
    : 'There is no instance yet. Ask an administrator to add one.'
})
const [listOpen, credentialsOpen, discoverOpen] = [ref(false), ref(false), ref(false)]
useActions(() =>
  administrator.value
    ? [
        { title: 'Add instance', run: () => edit(null) },
        { title: 'Import instances', run: () => (listOpen.value = true) },
        { title: 'Discover servers', run: () => (discoverOpen.value = true) },
        { title: 'Credentials', run: () => (credentialsOpen.value = true) },
      ]
    : [],
)
const { loaded, reload: reloadCredentials } = useLoaded(
  () => administrator.value,
  () => 0,
  async () => (administrator.value ? answer(api.GET('/api/v1/credentials')) : []),
)
const credentials = computed(() => (loaded.value.state === 'ready' ? loaded.value.data : []))
const removing = useAction()
async function remove(instance: Instance): Promise<void> {
  const path = { instance_id: instance.instance_id }
  await removing.run('remove', () =>
    answer(api.DELETE('/api/v1/instances/{instance_id}', { params: { path } })),
  )
  await roster.refresh()
}
function saved(): void {
  open.value = false
  void roster.refresh()
}
/** What somebody could let it tell, as opposed to what only a newer version would. */
const curable = (instance: Instance) =>
  instance.limits.filter((limit) => !limit.by_version).map((limit) => limit.figures)
function why(instance: Instance): string {
  if (instance.engine === 'bundle') return 'imported from bundles; nothing is collected'
  if (instance.collection === 'failing') return instance.problem?.message ?? 'no figures arrive'
  if (instance.collection === 'waiting') return 'waiting for the first figures'
  const reasons = []
  if (instance.slowdowns > 0)
    reasons.push(
      `${instance.slowdowns} slower ${instance.slowdowns === 1 ? 'statement' : 'statements'}, ${number(instance.lost_seconds_per_second)} s lost per second`,
    )
  if (instance.open_advice > 0) reasons.push(`${counted(instance.open_advice, 'open recommendation')}`)
  return reasons.join('; ') || 'nothing unusual'
}
</script>

<template>
  <div class="page-head">
    <h1>Instances</h1>
    <span class="muted">The most urgent first, then by time lost</span>
    <div v-if="administrator" class="add">
      <Button @click="discoverOpen = true">Discover servers</Button>
      <Button @click="listOpen = true">Import instances</Button>
      <Button @click="credentialsOpen = true">Credentials</Button>
      <Button type="primary" @click="edit(null)">Add instance</Button>
    </div>
  </div>
  <ProblemNote v-if="roster.problem" :problem="roster.problem" @retry="roster.refresh" />
  <ProblemNote v-if="removing.problem.value" :problem="removing.problem.value" @retry="roster.refresh" />
  <div class="sheet">
    <table v-if="roster.instances.length" class="figures">
      <thead>
        <tr>
          <th>health</th>
          <th>instance</th>
          <th title="the last three hours, or all there is of a younger instance">load</th>
          <th class="wide">why</th>
          <th>collection</th>
          <th>server</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="instance in roster.instances" :key="instance.instance_id">
          <td><HealthMark :health="instance.health" /></td>
          <td>
            <RouterLink class="label" :to="{ name: 'load', params: { instance: instance.label } }"
              ><b>{{ instance.label }}</b></RouterLink
            >
            <InstanceGroup :instance="instance" :groups="groups" @changed="roster.refresh" />
          </td>
          <td class="strip">
            <MiniStrip :cells="instance.strip" :height="22" :label="`Load of ${instance.label}`" />
          </td>
          <td class="wide">
            {{ why(instance) }}
            <p v-if="curable(instance).length" class="muted limit">
              Without {{ curable(instance).join(', ') }}:
              <RouterLink :to="{ name: 'collection', params: { instance: instance.label } }"
                >see Collection</RouterLink
              >
            </p>
          </td>
          <td v-if="instance.engine === 'bundle'" class="muted">imported from bundles</td>
          <td v-else>
            {{ instance.collection }} since {{ clock(instance.collection_since, new Date()) }}
            <div class="muted">last figures {{ ago(instance.last_success_at, new Date()) }}</div>
            <div
              v-if="instance.cost_share != null"
              class="muted"
              title="Time that the server took to answer, over the intervals: an upper bound of its work"
            >
              costs {{ percent(instance.cost_share) }} of one core, {{ bytes(instance.cost_bytes) }}/s
              <template v-if="(instance.stretch ?? 1) > 1.05">
                · intervals {{ number(instance.stretch) }} times as long, to stay within the budget
              </template>
            </div>
          </td>
          <td v-if="instance.engine === 'postgres'">
            <div>PostgreSQL {{ instance.server_version?.split(' ')[0] ?? '–' }}</div>
            <div class="muted">{{ instance.host }}:{{ instance.port }}/{{ instance.database }}</div>
          </td>
          <td v-else class="muted">{{ instance.engine === 'simulated' ? 'simulated' : '' }}</td>
          <td class="acts">
            <template v-if="administrator">
              <Button v-if="instance.engine === 'postgres'" size="small" @click="edit(instance)"
                >Connection</Button
              >
              <ConfirmButton
                :lost="`All figures of ${instance.label} are deleted. To keep them, run hurnix export ${instance.label} FILE first.`"
                action="Delete"
                @confirm="remove(instance)"
              />
            </template>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="roster.loaded">
      {{ nobody }}
    </p>
    <p v-else class="muted">Loading …</p>
  </div>
  <p v-if="administrator && roster.instances.length" class="muted foot">
    This list <a href="/api/v1/instance-lists/current?format=csv" download>as CSV</a> or
    <a href="/api/v1/instance-lists/current?format=json" download>as JSON</a>, without passwords, for import
    elsewhere.
  </p>
  <ConnectForm
    :open="open"
    :instance="editing"
    :credentials="credentials"
    @close="open = false"
    @saved="saved"
  />
  <DiscoverForm
    :open="discoverOpen"
    :credentials="credentials"
    @close="discoverOpen = false"
    @changed="roster.refresh"
  />
  <ListForm :open="listOpen" @close="listOpen = false" @changed="roster.refresh" />
  <CredentialsForm
    :open="credentialsOpen"
    :credentials="credentials"
    @close="credentialsOpen = false"
    @changed="reloadCredentials"
  />
</template>

<style scoped>
.label {
  display: inline-block;
  min-height: 24px;
}
.add {
  margin-left: auto;
  display: flex;
  gap: 8px;
}
.acts > * {
  display: block;
  margin-bottom: 4px;
}
.foot {
  font-size: 12.5px;
}
.strip {
  min-width: 170px;
}
.wide {
  width: 40%;
}
.limit {
  margin: 4px 0 0;
  font-size: 12.5px;
}
td {
  white-space: nowrap;
}
td.wide {
  white-space: normal;
}
</style>
