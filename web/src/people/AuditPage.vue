<script setup lang="ts">
import { InputSearch, Pagination, Segmented } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'

/** The audit trail: who changed, or tried to change, what. */
const PAGE_SIZE = 25
const DAY = 86_400_000
const SPANS = [
  { value: '1', label: 'a day' },
  { value: '7', label: 'a week' },
  { value: '30', label: '30 days' },
  { value: '400', label: '400 days' },
]
const OUTCOMES = [
  { value: 'all', label: 'All' },
  { value: 'done', label: 'Done' },
  { value: 'refused', label: 'Refused' },
  { value: 'failed', label: 'Failed' },
  { value: 'begun', label: 'Begun' },
] as const
const route = useRoute()
const router = useRouter()
const text = (name: string) => (typeof route.query[name] === 'string' ? route.query[name] : undefined)
const span = computed(() => SPANS.find((known) => known.value === text('span'))?.value ?? '7')
const outcome = computed(() => OUTCOMES.find((known) => known.value === text('outcome'))?.value ?? 'all')
const page = computed(() => Math.max(1, Number(text('page')) || 1))
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, page: undefined, ...change } })
}
/** What is asked for, as it stands in the address. */
function query() {
  const to = new Date()
  return {
    from: new Date(to.getTime() - Number(span.value) * DAY + 1000).toISOString(),
    to: to.toISOString(),
    account: text('account'),
    action: text('action'),
    outcome: outcome.value === 'all' ? undefined : outcome.value,
    search: text('search') || undefined,
  }
}
const { loaded, reload } = useLoaded(
  () => JSON.stringify(route.query),
  () => 0,
  () =>
    answer(
      api.GET('/api/v1/audit', {
        params: { query: { ...query(), page: page.value, page_size: PAGE_SIZE } },
      }),
    ),
)
const trail = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
/** The same as a file. */
const file = computed(() => {
  const given = Object.entries(query()).filter((part): part is [string, string] => part[1] !== undefined)
  return `/api/v1/audit.csv?${new URLSearchParams(given)}`
})
const words = (action: string) => action.replaceAll('_', ' ')
</script>

<template>
  <div class="page-head">
    <h1>Audit trail</h1>
    <span class="muted">Who changed or tried to change what</span>
    <div class="filters no-print">
      <div role="group" aria-label="How far back">
        <Segmented :value="span" :options="SPANS" @change="(value) => go({ span: String(value) })" />
      </div>
      <div role="group" aria-label="Which outcome">
        <Segmented
          :value="outcome"
          :options="[...OUTCOMES]"
          @change="(value) => go({ outcome: value === 'all' ? undefined : String(value) })"
        />
      </div>
      <InputSearch
        :default-value="text('search') ?? ''"
        placeholder="instance, detail, account or address"
        allow-clear
        @search="(value: string) => go({ search: value || undefined })"
      />
    </div>
  </div>
  <div v-if="text('account') || text('action')" class="chips">
    <span v-if="text('account')" class="chip"
      >by {{ text('account')
      }}<button type="button" aria-label="By everybody" @click="go({ account: undefined })">×</button></span
    >
    <span v-if="text('action')" class="chip"
      >{{ words(text('action') ?? '')
      }}<button type="button" aria-label="Every action" @click="go({ action: undefined })">×</button></span
    >
  </div>
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="trail" class="sheet">
    <p v-if="trail.entries.length === 0" class="empty">No entry of this period matches.</p>
    <table v-else class="figures" data-test="audit">
      <thead>
        <tr>
          <th>when</th>
          <th>who</th>
          <th>signed in by</th>
          <th>address</th>
          <th>action</th>
          <th>instance</th>
          <th class="wide">detail</th>
          <th>outcome</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="entry in trail.entries" :key="entry.audit_id">
          <td class="number">{{ clock(entry.at, new Date()) }}</td>
          <td>
            <button type="button" class="narrow" @click="go({ account: entry.account })">
              {{ entry.account }}
            </button>
          </td>
          <td>{{ entry.means }}</td>
          <td class="mono">{{ entry.client }}</td>
          <td>
            <button type="button" class="narrow" @click="go({ action: entry.action })">
              {{ words(entry.action) }}
            </button>
          </td>
          <td>{{ entry.instance }}</td>
          <td class="wide">{{ entry.detail }}</td>
          <td :class="{ not: entry.outcome !== 'done' }">{{ entry.outcome }}</td>
        </tr>
      </tbody>
    </table>
    <p class="foot muted">
      {{ trail.matching }} {{ trail.matching === 1 ? 'entry' : 'entries' }} in this period ·
      <a :href="file" download>Export as CSV</a>
    </p>
    <Pagination
      v-if="trail.matching > PAGE_SIZE"
      size="small"
      :current="page"
      :page-size="PAGE_SIZE"
      :total="trail.matching"
      :show-size-changer="false"
      @change="(next: number) => go({ page: String(next) })"
    />
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
</template>

<style scoped>
.filters {
  margin-left: auto;
  display: flex;
  gap: 10px;
}
.chips {
  display: flex;
  gap: 8px;
  margin-bottom: 10px;
}
.wide {
  width: 40%;
  overflow-wrap: anywhere;
}
td {
  white-space: nowrap;
}
td.wide {
  white-space: normal;
}
.empty {
  margin: 4px 0;
}
.foot {
  font-size: 12.5px;
  margin: 8px 0 0;
}
.narrow {
  border: 0;
  padding: 0;
  background: none;
  font: inherit;
  color: inherit;
  cursor: pointer;
  text-decoration: underline dotted var(--muted);
  text-underline-offset: 3px;
}
.not {
  font-weight: 700;
}
</style>
