<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, Failure, type Problem } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { bytes, clock, count, milliseconds, number, percent, seconds } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'
import EffectPanel from './EffectPanel.vue'
import StatementToRun from './StatementToRun.vue'
import { STATES } from './verdicts'

const { instance, news } = useInstance()
const session = useSession()
const route = useRoute()
const path = computed(() => ({
  instance_id: instance.value?.instance_id ?? 0,
  advice_id: String(route.params.advice),
}))
const { loaded, reload } = useLoaded(
  () => `${path.value.instance_id} ${path.value.advice_id}`,
  news,
  () =>
    answer(api.GET('/api/v1/instances/{instance_id}/advice/{advice_id}', { params: { path: path.value } })),
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const advice = computed(() => data.value?.advice ?? null)
const missing = computed(() => data.value?.missing_index ?? null)
const onReplica = computed(() => data.value?.on_replica ?? false)
const mayWrite = computed(() => session.current?.role !== 'reader')

const busy = ref(false)
const trouble = ref<Problem | null>(null)
async function act(action: 'applied' | 'set-aside' | 'reopen'): Promise<void> {
  busy.value = true
  trouble.value = null
  const params = { path: path.value }
  try {
    if (action === 'applied')
      await answer(
        api.POST('/api/v1/instances/{instance_id}/advice/{advice_id}/applied', { params, body: {} }),
      )
    else if (action === 'set-aside')
      await answer(api.POST('/api/v1/instances/{instance_id}/advice/{advice_id}/set-aside', { params }))
    else await answer(api.POST('/api/v1/instances/{instance_id}/advice/{advice_id}/reopen', { params }))
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    trouble.value = error.problem
  } finally {
    busy.value = false
    await reload()
  }
}
</script>

<template>
  <div class="page-head">
    <h1>Missing index</h1>
    <RouterLink :to="{ name: 'advice-book', query: { last: route.query.last } }">← advice book</RouterLink>
    <template v-if="advice">
      <code>{{ advice.subject }}</code>
      <span class="state" data-test="state">{{ STATES[advice.state] }}</span>
      <span v-if="mayWrite" class="actions no-print">
        <template v-if="advice.state === 'open'">
          <Button type="primary" :loading="busy" @click="act('applied')">Mark as applied</Button>
          <Popconfirm
            title="Set aside? The same advice is not given again until it is reopened."
            @confirm="act('set-aside')"
          >
            <Button :disabled="busy">Set aside</Button>
          </Popconfirm>
        </template>
        <Popconfirm
          v-else
          title="Open it again? What was measured for it is forgotten."
          @confirm="act('reopen')"
        >
          <Button :disabled="busy">Open again</Button>
        </Popconfirm>
      </span>
    </template>
  </div>
  <ProblemNote v-if="trouble" :problem="trouble" @retry="trouble = null" />
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
  <template v-if="advice && missing">
    <div class="columns">
      <section class="sheet">
        <h2>Effect</h2>
        <EffectPanel :advice="advice" />
      </section>
      <section class="sheet">
        <h2>Why these columns, in this order</h2>
        <table class="figures">
          <thead>
            <tr>
              <th></th>
              <th>column</th>
              <th>compared for</th>
              <th class="number">searches</th>
              <th class="number">different values</th>
            </tr>
          </thead>
          <tbody v-for="(column, i) in missing.columns" :key="column.name">
            <tr>
              <td class="number">{{ i + 1 }}</td>
              <td class="mono">{{ column.name }}</td>
              <td>{{ column.role }}</td>
              <td class="number">{{ column.searches }} of {{ column.searches_in_all }}</td>
              <td class="number">{{ count(column.distinct_values) }}</td>
            </tr>
            <tr>
              <td></td>
              <td colspan="4" class="muted reason">{{ column.reason }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="!missing.statistics_known" class="warn">
          The planner's statistics of these columns cannot be read by Hurnix's account, so the order rests on
          the statements alone. Check it against the data.
        </p>
        <p v-for="partial in missing.partial_indexes" :key="partial.name">
          <code>{{ partial.name }}</code> does not serve: it holds only rows where
          <code>{{ partial.condition }}</code>.
        </p>
        <p v-if="missing.makes_superfluous.length">
          Once it is there, look at <code>{{ missing.makes_superfluous.join(', ') }}</code>: the new index
          begins with the same columns.
        </p>
      </section>
    </div>
    <section class="sheet">
      <h2>Evidence</h2>
      <p class="muted">
        From {{ clock(advice.evidence.from, new Date()) }} to {{ clock(advice.evidence.to, new Date()) }}.
        Table of {{ count(missing.table_rows) }} rows in {{ count(missing.table_pages) }} pages, with
        {{ missing.indexes_present }} indexes. The new one would take about {{ bytes(missing.size_bytes) }},
        and every insert and many updates would keep it up.
      </p>
      <table class="figures">
        <thead>
          <tr>
            <th class="number">time per call</th>
            <th class="number">pages per call</th>
            <th class="number">rows</th>
            <th class="number">calls a day</th>
            <th class="number" title="share of the calls that read the whole table, judged by their pages">
              full reads
            </th>
            <th class="number">saves a day</th>
            <th class="wide">statement</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="helped in missing.families" :key="helped.family_id">
            <td class="number">
              {{ milliseconds(helped.now_ms) }} → {{ milliseconds(helped.predicted_ms) }}
            </td>
            <td class="number">{{ number(helped.now_pages) }} → {{ number(helped.predicted_pages) }}</td>
            <td class="number">{{ number(helped.rows_per_call) }}</td>
            <td class="number">{{ count(helped.calls_per_day) }}</td>
            <td class="number">{{ percent(helped.full_read_share) }}</td>
            <td class="number">{{ seconds(helped.saved_seconds_per_day) }}</td>
            <td class="wide">
              <RouterLink
                class="mono one-line"
                :to="{
                  name: 'family',
                  params: { family: helped.family_id },
                  query: { last: route.query.last },
                }"
                :title="helped.text"
                >{{ helped.text }}</RouterLink
              >
            </td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="advice.state !== 'applied'" class="sheet">
      <h2>The statement to run{{ onReplica ? ' on the primary' : '' }}</h2>
      <p v-if="onReplica" class="replica" data-test="on-replica">
        {{ instance?.label }} is a replica: it takes its indexes from its primary. Run the statement there;
        the index arrives here by itself, and its effect is measured here.
      </p>
      <StatementToRun :pieces="missing.statement" />
    </section>
  </template>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 12px;
  align-items: stretch;
}
.state {
  border: 1px solid var(--plum);
  padding: 0 8px;
}
.actions {
  margin-left: auto;
  display: flex;
  gap: 8px;
}
.reason {
  font-size: 12.5px;
  padding-top: 0;
}
.wide {
  width: 100%;
  max-width: 0;
}
.replica {
  border-left: 4px solid var(--plum);
  padding-left: 8px;
}
.warn {
  border-left: 4px solid var(--warn);
  padding-left: 8px;
  margin-top: 8px;
}
</style>
