<script setup lang="ts">
import { Pagination, Segmented } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { clock, percent, seconds } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import { predicted, shareOfPrediction, STATES, VERDICTS } from './verdicts'

const PAGE_SIZE = 25
const FILTERS = [
  { value: 'all', label: 'All' },
  { value: 'open', label: 'Open' },
  { value: 'applied', label: 'Applied' },
  { value: 'set_aside', label: 'Dismissed' },
  { value: 'lapsed', label: 'No longer valid' },
] as const
const { instance, news } = useInstance()
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
const state = computed(() => FILTERS.find((filter) => filter.value === route.query.state)?.value ?? 'all')
const byAge = computed(() => route.query.sort === 'age')
const page = computed(() => Math.max(1, Number(route.query.page) || 1))
function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, page: undefined, ...change } })
}
const { loaded, reload } = useLoaded(
  () => [id.value, state.value, byAge.value, page.value].join(' '),
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/advice', {
        params: {
          path: { instance_id: id.value },
          query: {
            state: state.value === 'all' ? undefined : state.value,
            by_age: byAge.value,
            page: page.value,
            page_size: PAGE_SIZE,
          },
        },
      }),
    ),
)
const book = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
</script>

<template>
  <div class="page-head">
    <h1>Advice book</h1>
    <span class="muted">All recommendations with their predicted and measured effect</span>
    <div class="filter" role="group" aria-label="Which recommendations">
      <Segmented
        :value="state"
        :options="[...FILTERS]"
        @change="(value) => go({ state: value === 'all' ? undefined : String(value) })"
      />
    </div>
  </div>
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <div v-if="book" class="sheet">
    <p v-if="book.advice.length === 0" class="empty">
      {{
        state === 'all'
          ? 'There are no recommendations: no missing and no unused index was found so far. New ones appear here.'
          : `No recommendation is ${STATES[state]}.`
      }}
    </p>
    <table v-else class="figures" data-test="advice-book">
      <thead>
        <tr>
          <th>state</th>
          <th class="number">
            <button type="button" class="sort" :aria-pressed="!byAge" @click="go({ sort: undefined })">
              predicted{{ byAge ? '' : ' ↓' }}
            </button>
          </th>
          <th class="number">measured</th>
          <th>verdict</th>
          <th class="wide">recommendation</th>
          <th>
            <button type="button" class="sort" :aria-pressed="byAge" @click="go({ sort: 'age' })">
              given{{ byAge ? ' ↓' : '' }}
            </button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="advice in book.advice" :key="advice.advice_id">
          <td>{{ STATES[advice.state] }}</td>
          <td class="number">{{ predicted(advice) }}</td>
          <td class="number">
            <template v-if="advice.effect?.saved_seconds_per_day">
              {{ seconds(advice.effect.saved_seconds_per_day.value) }} / day
              <span class="muted"
                >({{ percent(shareOfPrediction(advice.effect, advice.predicted_seconds_per_day)) }})</span
              >
            </template>
            <span v-else class="muted">–</span>
          </td>
          <td class="verdict" :class="advice.effect?.verdict">
            {{ advice.effect ? VERDICTS[advice.effect.verdict] : '–' }}
          </td>
          <td class="wide">
            {{ advice.title }}:
            <RouterLink
              class="mono"
              :to="{
                name: 'advice',
                params: { advice: advice.advice_id },
                query: { last: route.query.last },
              }"
              >{{ advice.subject }}</RouterLink
            >
          </td>
          <td class="number">{{ clock(advice.made_at, new Date(), false) }}</td>
        </tr>
      </tbody>
    </table>
    <p class="muted foot">
      Predicted and measured: statement time saved per day on this instance, at the rate of calls before, and
      space freed. In brackets: measured as a share of predicted.
    </p>
    <Pagination
      v-if="book.matching > PAGE_SIZE"
      size="small"
      :current="page"
      :page-size="PAGE_SIZE"
      :total="book.matching"
      :show-size-changer="false"
      @change="(next: number) => go({ page: String(next) })"
    />
  </div>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
</template>

<style scoped>
.filter {
  margin-left: auto;
}
.wide {
  width: 100%;
}
.empty {
  margin: 4px 0;
}
.foot {
  font-size: 12.5px;
  margin: 8px 0 0;
}
.verdict {
  white-space: nowrap;
}
.confirmed,
.harmful {
  font-weight: 700;
}
.harmful {
  color: var(--warn);
}
</style>
