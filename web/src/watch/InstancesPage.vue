<script setup lang="ts">
import { useStorage } from '@vueuse/core'
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { usePlainLinks } from '../composables/usePlainLinks'
import { ago, bytes, clock, number, percent } from '../format'
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
import OtherAlarms from './OtherAlarms.vue'
import QuietInstances from './QuietInstances.vue'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'

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
  instance.engine !== 'postgres'
    ? []
    : instance.limits.filter((limit) => !limit.by_version).map((limit) => limit.figures)
function why(instance: Instance): string {
  if (instance.engine === 'bundle') return 'imported from bundles; nothing is collected'
  if (instance.collection === 'failing') return instance.problem?.message ?? 'no figures arrive'
  if (instance.collection === 'waiting') return 'waiting for the first figures'
  if (instance.silenced_by) return `maintenance: ${instance.silenced_by}; alarms are silent`
  return 'nothing unusual'
}
/** What is pinned comes first, in its own order; then the most urgent. */
const pinned = computed(() => session.preferences.pinned)
const inOrder = computed(() => {
  const place = ({ instance_id: id }: Instance) => {
    const at = pinned.value.indexOf(id)
    return at < 0 ? pinned.value.length : at
  }
  return [...roster.instances].sort((a, b) => place(a) - place(b))
})
const isPinned = (row: Instance) => pinned.value.includes(row.instance_id)
function pin(row: Instance): void {
  const { instance_id: id } = row
  const others = pinned.value.filter((one) => one !== id)
  acting.value = null
  void session.prefer({ pinned: isPinned(row) ? others : [...others, id] })
}
/** Groups with the worst of each and how many of them ask; the server's order puts the most urgent first. */
const perGroup = computed(() => {
  const asks = (one: Instance) => one.health === 'act' || one.health === 'look'
  return [...new Set(roster.instances.map((one) => one.group ?? ''))].map((name) => {
    const of = roster.instances.filter((one) => (one.group ?? '') === name)
    return { name, health: of[0]!.health, asking: of.filter(asks).length, all: of.length }
  })
})
const route = useRoute()
const router = useRouter()
const GROUP_FILTER = 'instances.is.group'
const onlyGroup = computed(() => String(route.query[GROUP_FILTER] ?? ''))
function choose(group: string): void {
  const only = onlyGroup.value === group ? undefined : group
  void router.replace({ query: { ...route.query, [GROUP_FILTER]: only, 'instances.page': undefined } })
}
/** From so many instances on, those that are quiet are named below the others and have no line each. */
const MANY = 50
const hasLineEach = useStorage('hurnix-quiet-in-lines', false)
/** Whoever filters looks for something among all of them. */
const isSearched = computed(() => {
  const besides = [GROUP_FILTER, 'instances.page', 'instances.columns', 'instances.sort']
  return Object.keys(route.query).some((key) => key.startsWith('instances.') && !besides.includes(key))
})
const foldsQuiet = computed(() => roster.instances.length > MANY && !hasLineEach.value)
const isFolded = (row: Instance) => foldsQuiet.value && row.health === 'quiet' && !isPinned(row)
const quiet = computed(() =>
  inOrder.value.filter((row) => isFolded(row) && (!onlyGroup.value || row.group === onlyGroup.value)),
)
const lines = computed(() =>
  isSearched.value ? inOrder.value : inOrder.value.filter((row) => !isFolded(row)),
)
/** The instance of which it is shown what can be done to it: there may be many lines, and each needs the room. */
const acting = ref<number | null>(null)
/** The instance that is put into another group: its form is made for it alone. */
const grouping = ref<number | null>(null)
const { hrefOf, follow } = usePlainLinks()
/** Instances of which all alarms are shown. */
const unfolded = ref(new Set<number>())
function fold(instance: Instance): void {
  const { instance_id: id } = instance
  if (!unfolded.value.delete(id)) unfolded.value.add(id)
}
/** Load in the newest cell that is known. */
const newest = (instance: Instance) => instance.strip.findLast((cell) => cell !== null) ?? null
const serverOf = (instance: Instance) =>
  instance.engine === 'postgres' ? `PostgreSQL ${instance.server_version ?? ''}` : instance.engine
const COLUMNS: Column<Instance>[] = [
  {
    key: 'health',
    title: 'health',
    hint: 'the list is in the order of urgency until another is chosen',
    sorts: false,
    value: (row) => row.health.replace('_', ' '),
  },
  { key: 'label', title: 'instance', value: (row) => row.label },
  { key: 'group', title: 'group', value: (row) => row.group },
  {
    key: 'load',
    title: 'load',
    hint: 'busy sessions, and their mean in the newest cell',
    number: true,
    value: newest,
    text: (row) => number(newest(row)),
  },
  {
    key: 'why',
    title: 'worst trouble',
    hint: 'the most urgent alarm, and since when',
    wide: true,
    value: (row) => row.worst?.text ?? why(row),
  },
  {
    key: 'alarms',
    title: 'alarms',
    hint: 'alarms that ask for attention',
    number: true,
    value: (row) => row.alarms,
  },
  {
    key: 'lost',
    title: 'time lost',
    hint: 'seconds lost in each second to what its alarms are about',
    number: true,
    value: (row) => row.lost_seconds_per_second,
    text: (row) => (row.lost_seconds_per_second > 0 ? `${number(row.lost_seconds_per_second)} s/s` : ''),
  },
  {
    key: 'advice',
    title: 'recommendations',
    hint: 'open recommendations of the advice book',
    number: true,
    aside: true,
    value: (row) => row.open_advice,
  },
  { key: 'collection', title: 'collection', aside: true, value: (row) => row.collection },
  {
    key: 'cost',
    title: 'cost',
    aside: true,
    hint: 'share of one core that the server took to answer, an upper bound of its work',
    number: true,
    value: (row) => row.cost_share,
    text: (row) => percent(row.cost_share),
  },
  { key: 'server', title: 'server', aside: true, value: serverOf },
]
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
  <div v-if="groups.length > 1" class="groups" role="group" aria-label="Groups">
    <button
      v-for="group in perGroup.filter(({ name }) => name)"
      :key="group.name"
      type="button"
      :aria-pressed="onlyGroup === group.name"
      :title="`Show ${group.name} only`"
      @click="choose(group.name)"
    >
      <b>{{ group.name }}</b> <HealthMark :health="group.health" />
      <span class="muted">{{ group.asking }} of {{ group.all }}</span>
    </button>
  </div>
  <div class="sheet" @click="follow">
    <DataTable
      v-if="roster.loaded"
      name="instances"
      one="instance"
      :rows="lines"
      :columns="COLUMNS"
      :row-key="(row) => row.instance_id"
      in-place
      figures-of="the last three hours, or all there is of a younger instance"
    >
      <template v-if="hasLineEach && roster.instances.length > MANY" #tools>
        <Button size="small" @click="hasLineEach = false">Name quiet ones only</Button>
      </template>
      <template #empty
        ><p>{{ quiet.length ? 'No instance needs anybody.' : nobody }}</p></template
      >
      <template #cell-health="{ row }"><HealthMark :health="row.health" /></template>
      <template #cell-label="{ row }">
        <a class="label" data-plain :href="hrefOf('load', 'instance', row.label)"
          ><b>{{ row.label }}</b></a
        >
        <span v-if="isPinned(row)" class="muted pinned">pinned</span>
      </template>
      <template #cell-group="{ row }">
        <InstanceGroup
          v-if="grouping === row.instance_id"
          :key="row.instance_id"
          :instance="row"
          :groups="groups"
          @changed="roster.refresh"
        />
        <button
          v-else-if="administrator"
          type="button"
          class="plain group"
          :title="`Put ${row.label} into a group`"
          @click="grouping = row.instance_id"
        >
          {{ row.group ?? 'no group' }}
        </button>
        <span v-else class="muted">{{ row.group }}</span>
      </template>
      <template #cell-load="{ row }">
        <div class="strip">
          <MiniStrip
            :cells="row.strip"
            :low="row.strip_low"
            :high="row.strip_high"
            :height="22"
            :label="`Load of ${row.label}`"
          />
          <span>{{ number(newest(row)) }}</span>
        </div>
      </template>
      <template #cell-why="{ row }">
        <div v-if="row.worst" class="trouble">
          <a
            data-plain
            :href="hrefOf('alarm', 'alarm', row.worst.alarm_id)"
            class="worst"
            :title="row.worst.text"
            >{{ row.worst.text }}</a
          >
          <span class="muted age">{{ ago(row.worst.began_at, new Date()) }}</span>
        </div>
        <span v-else :class="{ muted: row.health === 'quiet' }">{{ why(row) }}</span>
        <OtherAlarms
          v-if="unfolded.has(row.instance_id) && row.alarms > 1"
          :key="row.instance_id"
          :instance="row"
        />
        <p v-if="curable(row).length && (!row.worst || unfolded.has(row.instance_id))" class="muted limit">
          Without {{ curable(row).join(', ') }}:
          <RouterLink :to="{ name: 'collection', params: { instance: row.label } }"
            >see Collection</RouterLink
          >
        </p>
      </template>
      <template #cell-alarms="{ row }">
        <button
          v-if="row.alarms > 1 || (row.worst && curable(row).length)"
          type="button"
          class="fold"
          :aria-expanded="unfolded.has(row.instance_id)"
          :title="unfolded.has(row.instance_id) ? 'Show one line only' : 'Show everything about it'"
          @click="fold(row)"
        >
          {{ row.alarms }} {{ unfolded.has(row.instance_id) ? '▴' : '▾' }}
        </button>
        <template v-else>{{ row.alarms || '' }}</template>
      </template>
      <template #cell-collection="{ row }">
        <span v-if="row.engine === 'bundle'" class="muted">imported from bundles</span>
        <template v-else>
          <span :title="`since ${clock(row.collection_since, new Date())}`">{{ row.collection }}</span>
          <div class="muted" title="when figures last arrived">
            {{ ago(row.last_success_at, new Date()) }}
          </div>
        </template>
      </template>
      <template #cell-cost="{ row }">
        <template v-if="row.cost_share != null">
          {{ percent(row.cost_share) }}
          <div class="muted">{{ bytes(row.cost_bytes) }}/s</div>
          <div
            v-if="(row.stretch ?? 1) > 1.05"
            class="muted"
            title="Intervals are stretched, so that reading stays within its budget"
          >
            intervals × {{ number(row.stretch) }}
          </div>
        </template>
      </template>
      <template #cell-server="{ row }">
        <template v-if="row.engine === 'postgres'">
          PostgreSQL {{ row.server_version?.split(' ')[0] ?? '–' }}
          <div class="muted">{{ row.host }}:{{ row.port }}/{{ row.database }}</div>
        </template>
        <span v-else class="muted">{{ row.engine === 'simulated' ? 'simulated' : '' }}</span>
      </template>
      <template #actions="{ row }">
        <button
          v-if="acting !== row.instance_id"
          type="button"
          class="fold"
          :aria-label="`Actions for ${row.label}`"
          title="Pin, connection, delete"
          @click="acting = row.instance_id"
        >
          ⋯
        </button>
        <div v-else class="acts" @keydown.esc="acting = null">
          <Button size="small" @click="pin(row)">{{ isPinned(row) ? 'Unpin' : 'Pin' }}</Button>
          <Button v-if="administrator && row.engine === 'postgres'" size="small" @click="edit(row)"
            >Connection</Button
          >
          <ConfirmButton
            v-if="administrator"
            :lost="`All figures of ${row.label} are deleted. To keep them, run hurnix export ${row.label} FILE first.`"
            action="Delete"
            @confirm="remove(row)"
          />
          <Button size="small" @click="acting = null">Close</Button>
        </div>
      </template>
    </DataTable>
    <PageState v-else-if="!roster.problem" :loaded="{ state: 'loading' }" />
  </div>
  <QuietInstances v-if="quiet.length" v-show="!isSearched" :instances="quiet" @unfold="hasLineEach = true" />
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
/* What can be done to an instance lies over the end of its line. */
.acts {
  display: flex;
  gap: 4px;
  position: absolute;
  right: 4px;
  top: 3px;
  padding: 0 4px;
  background: var(--sheet);
}
:deep(td:last-child) {
  position: relative;
  padding: 0;
}
/* It is there for whoever looks for it. */
.group {
  font-size: 12.5px;
  color: var(--muted);
  text-decoration-style: dotted;
  text-underline-offset: 3px;
}
.groups {
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  margin-bottom: 8px;
}
.groups button {
  display: inline-flex;
  gap: 6px;
  align-items: baseline;
  padding: 2px 8px;
  min-height: 26px;
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: inherit;
  font: inherit;
  cursor: pointer;
}
.groups button[aria-pressed='true'] {
  border-color: var(--plum);
  background: var(--plum-wash);
}
.pinned {
  margin-left: 5px;
  font-size: 12px;
}
.foot {
  font-size: 12.5px;
}
.strip {
  display: grid;
  grid-template-columns: 72px 44px;
  gap: 6px;
  align-items: end;
}
:deep(td) {
  white-space: nowrap;
}
:deep(td.wide) {
  white-space: normal;
  width: 100%;
  max-width: 0;
}
.trouble {
  display: flex;
  gap: 8px;
  justify-content: space-between;
  align-items: baseline;
}
.worst {
  color: inherit;
  font-weight: 600;
  text-decoration: none;
  white-space: nowrap;
  text-overflow: ellipsis;
  overflow: hidden;
}
.worst:hover,
.worst:focus-visible {
  text-decoration: underline;
}
.age {
  white-space: nowrap;
}
.fold {
  border: 0;
  padding: 0 2px;
  min-height: 24px;
  background: none;
  font: inherit;
  color: inherit;
  cursor: pointer;
}
.limit {
  margin: 4px 0 0;
  font-size: 12.5px;
}
</style>
