<script setup lang="ts">
import { Segmented } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import HealthMark from '../pictures/HealthMark.vue'
import { useRoster } from '../stores/roster'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import { columns } from './alarmRows'

/** Alarms of all instances, or of one that the address names: those open, or those closed. */
const STATES = [
  { value: 'open', label: 'Open' },
  { value: 'closed', label: 'Closed' },
] as const
/** Most that one list shows; the server tells how many there are. */
const MOST = 200
const roster = useRoster()
const route = useRoute()
const router = useRouter()
const state = computed(() => STATES.find(({ value }) => value === route.query.state)?.value ?? 'open')
const of = computed(() => roster.byLabel.get(String(route.query.of ?? '')))
/** News of alarms, of whichever instance. */
const news = computed(() => Object.values(roster.news).reduce((sum, heard) => sum + (heard.alarms ?? 0), 0))
const { loaded, reload } = useLoaded(
  () => `${state.value} ${of.value?.instance_id}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/alarms', {
        params: { query: { state: state.value, instance_id: of.value?.instance_id, page_size: MOST } },
      }),
    ),
)
const list = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const partial = computed(() =>
  list.value && list.value.matching > list.value.alarms.length
    ? `The first ${list.value.alarms.length} of ${list.value.matching} are shown.`
    : undefined,
)
const shown = computed(() => columns(state.value === 'closed'))
function choose(query: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, ...query } })
}
</script>

<template>
  <div class="page-head">
    <h1>Alarms</h1>
    <Segmented
      :value="state"
      :options="[...STATES]"
      @change="(value) => choose({ state: value === 'open' ? undefined : String(value) })"
    />
    <span v-if="of" class="chip">
      {{ of.label }}
      <button type="button" aria-label="Show alarms of all instances" @click="choose({ of: undefined })">
        ×
      </button>
    </span>
    <span class="muted">{{
      state === 'open' ? 'The most urgent first, then by time lost' : 'The last closed first'
    }}</span>
  </div>
  <PageState :loaded="loaded" :partial="partial" @retry="reload" />
  <div v-if="list" class="sheet">
    <DataTable
      :key="state"
      name="alarms"
      one="alarm"
      test="alarms"
      :rows="list.alarms"
      :columns="shown"
      :row-key="(row) => row.alarm_id"
    >
      <template #empty>
        <p v-if="state === 'open'">No alarm is open: nothing that is watched is out of the ordinary.</p>
        <p v-else>No alarm was closed yet.</p>
      </template>
      <template #cell-verdict="{ row }"><HealthMark :health="row.asks ?? row.verdict" /></template>
      <template #cell-instance="{ row }"
        ><RouterLink :to="{ name: 'load', params: { instance: row.instance } }">{{
          row.instance
        }}</RouterLink></template
      >
      <template #cell-text="{ row }">
        <RouterLink :to="{ name: 'alarm', params: { alarm: row.alarm_id } }" class="what">{{
          row.text
        }}</RouterLink>
        <p v-if="row.consequences.length" class="muted also">Also: {{ row.consequences[0] }}</p>
      </template>
    </DataTable>
  </div>
</template>

<style scoped>
:deep(td) {
  white-space: nowrap;
}
:deep(td.wide) {
  white-space: normal;
}
.what {
  color: inherit;
  font-weight: 600;
  text-decoration: none;
}
.what:hover,
.what:focus-visible {
  text-decoration: underline;
}
.also {
  margin: 2px 0 0;
  font-size: 12.5px;
}
</style>
