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
import { everyPage } from '../ui/table'
import { useTableState } from '../ui/useTableState'
import { columns } from './alarmRows'

/** Alarms of all instances, or of one that the address names: those open, or those closed. */
const STATES = [
  { value: 'open', label: 'Open' },
  { value: 'closed', label: 'Closed' },
] as const
/** Closed alarms on a page. */
const PAGE_SIZE = 50
const roster = useRoster()
const route = useRoute()
const router = useRouter()
const state = computed(() => STATES.find(({ value }) => value === route.query.state)?.value ?? 'open')
const of = computed(() => roster.byLabel.get(String(route.query.of ?? '')))
/** News of alarms, of whichever instance. */
const news = computed(() => Object.values(roster.news).reduce((sum, heard) => sum + (heard.alarms ?? 0), 0))
const { page } = useTableState('alarms')
const ask = async (page: number, page_size: number) => {
  const query = { state: state.value, instance_id: of.value?.instance_id, page, page_size }
  const { matching, alarms } = await answer(api.GET('/api/v1/alarms', { params: { query } }))
  return { matching, rows: alarms }
}
/** Those open are sorted and filtered here, all of them; of those closed there may be years. */
const {
  loaded,
  data: list,
  reload,
} = useLoaded(
  () => [state.value, of.value?.instance_id, state.value === 'closed' && page.value].join(' '),
  news,
  async () => {
    if (state.value === 'closed') return ask(page.value, PAGE_SIZE)
    const rows = await everyPage(ask)
    return { matching: rows.length, rows }
  },
)
const shown = computed(() => columns(state.value === 'closed'))
function choose(query: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, 'alarms.page': undefined, ...query } })
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
  <PageState :loaded="loaded" @retry="reload" />
  <div v-if="list" class="sheet">
    <DataTable
      :key="state"
      name="alarms"
      one="alarm"
      test="alarms"
      :rows="list.rows"
      :matching="state === 'closed' ? list.matching : undefined"
      :page-size="PAGE_SIZE"
      :every-row="() => everyPage(ask)"
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
