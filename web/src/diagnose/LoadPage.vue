<script setup lang="ts">
import { Segmented } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useColumn } from '../composables/useColumn'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useWindow } from '../composables/useWindow'
import { clock, number, percent, seconds, source } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import StripStack from '../pictures/StripStack.vue'
import FindingsNote from './FindingsNote.vue'
import KindBar from './KindBar.vue'
import { loadRows } from './loadRows'

const { instance, news } = useInstance()
const { window, key } = useWindow()
const route = useRoute()
const id = computed(() => instance.value?.instance_id)

const { loaded, reload } = useLoaded(
  () => `${id.value} ${key.value}`,
  news,
  async () => {
    const path = { instance_id: id.value ?? 0 }
    const query = { from: window.value.from.toISOString(), to: window.value.to.toISOString() }
    const [load, history] = await Promise.all([
      answer(api.GET('/api/v1/instances/{instance_id}/load', { params: { path, query } })),
      answer(api.GET('/api/v1/instances/{instance_id}/history', { params: { path, query: {} } })),
    ])
    return {
      load,
      markers: history.markers.map((marker) => ({ at: new Date(marker.at), text: marker.text })),
    }
  },
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const load = computed(() => data.value?.load ?? null)
const starts = computed(() => (load.value?.cells ?? []).map((cell) => new Date(cell.at)))
const rows = computed(() => (load.value ? loadRows(load.value.cells, load.value.whole, true) : []))

const {
  span: chosenSpan,
  cells: chosenCells,
  choose,
} = useColumn(
  () => starts.value,
  () => load.value?.cell_seconds ?? 1,
)

const SPLITS = [
  { value: 'family', label: 'Statements' },
  { value: 'event', label: 'Wait events' },
  { value: 'account', label: 'Accounts' },
  { value: 'program', label: 'Programs' },
  { value: 'client', label: 'Clients' },
  { value: 'database', label: 'Databases' },
]
const by = ref<Schemas['SplitBy']>('family')
const span = computed(() => chosenSpan.value ?? window.value)
const { loaded: split, reload: reloadSplit } = useLoaded(
  () => `${id.value} ${key.value} ${route.query.cell} ${by.value}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/load/breakdown', {
        params: {
          path: { instance_id: id.value ?? 0 },
          query: { by: by.value, from: span.value.from.toISOString(), to: span.value.to.toISOString() },
        },
      }),
    ),
)
const parts = computed(() => (split.value.state === 'loading' ? null : (split.value.data?.parts ?? null)))
const most = computed(() => Math.max(...(parts.value ?? []).map((part) => part.load.total ?? 0), 0))
const UNKNOWN: Record<string, string> = {
  family: '(text not known)',
  event: '(no wait: running)',
  client: '(on the server itself)',
  account: '(the server itself)',
  program: '(no name given)',
  database: '(no database)',
}
</script>

<template>
  <div class="page-head">
    <h1>Load</h1>
    <span class="muted">Where the time goes: busy sessions by what they wait for, sampled over and over</span>
  </div>
  <FindingsNote />
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="load" class="sheet">
    <template v-if="load.whole.samples > 0">
      <StripStack
        :starts="starts"
        :cell-seconds="load.cell_seconds"
        :rows="rows"
        :figure-heads="['mean', 'peak']"
        :chosen="chosenCells"
        :markers="data?.markers ?? []"
        @choose="choose"
      />
      <p class="muted foot">
        Sessions. Mean over {{ number(load.whole.samples) }} samples ±
        {{ number(load.whole.standard_error) }} (standard error); one cell is
        {{ seconds(load.cell_seconds) }}, the peak is that of a cell; {{ source(load.detail) }}. Hatched: not
        observed.
      </p>
    </template>
    <p v-else class="empty">
      Nothing was observed in this window.
      <template v-if="instance?.last_success_at">
        Figures last arrived at {{ clock(instance.last_success_at, new Date()) }}: choose a window that holds
        that moment.
      </template>
      <template v-else>The first figures arrive seconds after the connection stands.</template>
    </p>
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>

  <div class="page-head below">
    <h2>What the load was made of</h2>
    <span v-if="chosenSpan" class="chip">
      {{ clock(chosenSpan.from, new Date()) }} – {{ clock(chosenSpan.to, new Date()) }}
      <button type="button" aria-label="Clear the chosen column of time" @click="choose(null)">✕</button>
    </span>
    <div role="group" aria-label="Split by">
      <Segmented :value="by" :options="SPLITS" @change="(value) => (by = value as Schemas['SplitBy'])" />
    </div>
  </div>
  <ProblemNote v-if="split.state === 'failed'" :problem="split.problem" @retry="reloadSplit" />
  <div v-else class="sheet">
    <p v-if="parts && parts.length === 0" class="empty">No session was busy in this span.</p>
    <table v-else-if="parts" class="figures" data-test="breakdown">
      <thead>
        <tr>
          <th class="number">load</th>
          <th class="number">share</th>
          <th>by wait kind</th>
          <th class="wide">{{ SPLITS.find((option) => option.value === by)?.label }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(part, i) in parts" :key="part.family_id ?? part.name + i">
          <td class="number">{{ number(part.load.total) }}</td>
          <td class="number">{{ percent(part.share) }}</td>
          <td><KindBar :kinds="part.load.kinds" :most="most" /></td>
          <td class="wide">
            <RouterLink
              v-if="part.family_id"
              class="mono one-line"
              :to="{
                name: 'family',
                params: { family: part.family_id },
                query: { ...route.query, cell: undefined },
              }"
              :title="part.name"
              >{{ part.name }}</RouterLink
            >
            <span v-else class="one-line" :class="{ muted: !part.name }">{{ part.name || UNKNOWN[by] }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else class="muted">Loading …</p>
  </div>
</template>

<style scoped>
.below {
  margin-top: 14px;
}
.below h2 {
  margin: 0;
}
.foot {
  font-size: 12.5px;
  margin: 2px 0 0;
}
.empty {
  margin: 4px 0;
}
.wide {
  width: 100%;
  max-width: 0;
}
</style>
