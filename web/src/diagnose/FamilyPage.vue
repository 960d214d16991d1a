<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import {
  between,
  clock,
  count,
  counted,
  milliseconds,
  number,
  percent,
  seconds,
  source,
  timesAs,
} from '../format'
import FigureText from '../ui/FigureText.vue'
import PageState from '../ui/PageState.vue'
import StatementText from '../ui/StatementText.vue'
import StripStack from '../pictures/StripStack.vue'
import { useHistory } from '../stores/history'
import ChangePanel from './ChangePanel.vue'
import ChangeTable from './ChangeTable.vue'
import ExecutionList from './ExecutionList.vue'
import FamilyElsewhere from './FamilyElsewhere.vue'
import FamilyLog from './FamilyLog.vue'
import FamilyPlans from './FamilyPlans.vue'
import FamilyTables from './FamilyTables.vue'
import FamilyWho from './FamilyWho.vue'
import { whatChanged } from './measured'
import { familyRows } from './familyRows'
import { loadRows } from './loadRows'

const { instance } = useInstance()
const news = useNews('statements', 'findings')
const { window, then, key } = useWindow(news)
const kept = useHistory()
const route = useRoute()
const id = computed(() => instance.value?.instance_id ?? 0)
const familyId = computed(() => String(route.params.family))

const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${familyId.value} ${key.value}`,
  [news, () => String(route.query.then)],
  async () => {
    const path = { instance_id: id.value }
    const of = (span: { from: Date; to: Date }) =>
      answer(
        api.GET('/api/v1/instances/{instance_id}/statements/{family_id}', {
          params: {
            path: { ...path, family_id: familyId.value },
            query: asQuery(span),
          },
        }),
      )
    const [family, before, book] = await Promise.all([
      of(window.value),
      then.value && of(then.value),
      answer(
        api.GET('/api/v1/instances/{instance_id}/advice', { params: { path, query: { page_size: 50 } } }),
      ),
    ])
    return { family, before, book }
  },
)
const family = computed(() => data.value?.family ?? null)
const rows = computed(() =>
  family.value
    ? [...familyRows(family.value), ...loadRows(family.value.cells, family.value.load, false).slice(1)]
    : [],
)
const changes = computed(() => (family.value?.changes ?? []).filter((change) => !change.withdrawn))
const told = computed(() => changes.value.filter((change) => change.measured === 'time_per_call'))
/** What else of it changed and stayed so. */
const besides = computed(() =>
  changes.value
    .filter((change) => change.measured !== 'time_per_call')
    .map((change) => ({ family_id: familyId.value, text: '', change })),
)
const withdrawn = computed(() => (family.value?.changes ?? []).filter((change) => change.withdrawn))
const markers = computed(() => {
  const onsets = told.value.map((change) => ({
    at: new Date(change.onset),
    text: change.ratio.value > 1 ? 'slower from here' : 'faster from here',
  }))
  return [...kept.markers, ...onsets]
})
/** Advice that would help this statement. */
const advice = computed(() =>
  (data.value?.book.advice ?? []).filter((page) => page.families.includes(familyId.value)),
)
/** Window and source of the figures. */
const said = computed(() => ({
  window: between(window.value),
  source: source(family.value?.coverage.detail ?? ''),
}))
/** Single executions are told of so many hours at most: of longer windows those of the end. */
const LONGEST_HOURS = 6
const ofExecutions = computed(() => ({
  from: new Date(Math.max(+window.value.from, +window.value.to - LONGEST_HOURS * 3_600_000)),
  to: window.value.to,
}))
const isCut = computed(() => +ofExecutions.value.from > +window.value.from)
/** What every part below is asked of. */
const ofPart = computed(() => ({
  instanceId: id.value,
  family: familyId.value,
  span: window.value,
  spanKey: key.value,
  again: news.value,
}))
const hitShare = computed(() => {
  const figures = family.value?.figures
  const pages = (figures?.hit_pages ?? 0) + (figures?.read_pages ?? 0)
  return figures && pages > 0 ? figures.hit_pages / pages : null
})
</script>

<template>
  <div class="page-head">
    <h1>Statement</h1>
    <RouterLink
      :to="{
        name: 'statements',
        query: { from: route.query.from, to: route.query.to, last: route.query.last },
      }"
    >
      ← all statements
    </RouterLink>
    <RouterLink
      v-if="family"
      :to="{
        name: 'log',
        query: {
          family: family.family_id,
          from: route.query.from,
          to: route.query.to,
          last: route.query.last,
        },
      }"
      >its log entries</RouterLink
    >
    <RouterLink
      v-if="family"
      :to="{ name: 'reports', query: { ...route.query, kind: 'statement', statement: family.family_id } }"
      >Report</RouterLink
    >
    <span v-if="family" class="muted">first seen {{ clock(family.first_seen_at, new Date()) }}</span>
    <span v-if="family?.tag" class="mono">/* {{ family.tag }} */</span>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="family">
    <StatementText :text="family.text" name="the statement" class="text" />
    <p v-for="page in advice" :key="page.advice_id" class="advice">
      {{
        page.state === 'open'
          ? 'Recommendation'
          : page.state === 'applied'
            ? 'Recommendation, applied'
            : 'Recommendation, dismissed'
      }}:
      <RouterLink :to="{ name: 'advice', params: { advice: page.advice_id }, query: route.query }">
        index on {{ page.subject }}</RouterLink
      >
    </p>
    <p v-if="family.flood" class="advice" data-test="flood">
      It stands {{ count(family.flood.texts) }} times in the server’s list of statements, with other literals
      each time: {{ percent(family.flood.share) }} of the list, since
      {{ clock(family.flood.since, new Date()) }}. Have the program bind parameters.
    </p>
    <ChangePanel v-if="told[0]" :change="told[0]" @answered="reload" />
    <section class="sheet">
      <StripStack
        v-if="family.coverage.periods > 0"
        :starts="family.cells.map((cell) => new Date(cell.at))"
        :cell-seconds="family.cell_seconds"
        :rows="rows"
        :figure-heads="['mean', 'peak']"
        :figures-of="`${said.window}, ${said.source}`"
        :chosen="null"
        read-only
        :markers="markers"
      />
      <p v-else class="muted">
        No period of this window has figures yet: figures need two readings of the counters.
      </p>
      <p class="muted foot">
        {{ count(family.figures.calls) }} calls, {{ seconds(family.figures.exec_us / 1e6) }} in all,
        <FigureText :text="milliseconds(family.mean_ms)" of="Mean time per call" v-bind="said" />
        each<template v-if="family.deviation_ms != null"
          >, standard deviation
          <FigureText
            :text="milliseconds(family.deviation_ms)"
            of="Standard deviation of single executions"
            v-bind="said" /></template
        >; {{ percent(hitShare) }} of its pages came from the server's cache. Counters above, sampled load by
        wait kind below them; one cell is {{ seconds(family.cell_seconds) }}.
        <template v-if="then && data?.before">
          Then, {{ between(then) }}:
          <template v-if="data.before.coverage.periods > 0"
            >{{ count(data.before.figures.calls) }} calls, {{ seconds(data.before.figures.exec_us / 1e6) }} in
            all, {{ milliseconds(data.before.mean_ms) }} each.</template
          ><template v-else>no figures.</template>
        </template>
      </p>
    </section>
    <ChangePanel
      v-for="change in told.slice(1)"
      :key="change.change_id"
      :change="change"
      @answered="reload"
    />
    <section v-if="besides.length" class="sheet">
      <h2>What else changed of it and stayed so</h2>
      <ChangeTable name="besides" of-one :changes="besides" />
    </section>
    <details v-if="withdrawn.length" class="sheet" data-test="withdrawn">
      <summary>{{ counted(withdrawn.length, 'change') }} withdrawn: more figures showed none</summary>
      <ul>
        <li v-for="change in withdrawn" :key="change.change_id">
          {{ whatChanged(change, false) }}, {{ timesAs(change.ratio.value) }}, since
          {{ clock(change.onset, new Date()) }}, found at
          {{ clock(change.found_at, new Date()) }}
        </li>
      </ul>
    </details>
    <section class="sheet">
      <FamilyPlans :family="family" />
    </section>
    <section class="sheet">
      <h2>Who runs it</h2>
      <FamilyWho v-bind="ofPart" />
    </section>
    <section class="sheet">
      <h2>Longest executions seen{{ isCut ? ` in the last ${LONGEST_HOURS} h of the window` : '' }}</h2>
      <ExecutionList v-bind="ofPart" :span="ofExecutions" order="longest" />
    </section>
    <section v-if="family.tables.length" class="sheet">
      <h2>Tables that it names</h2>
      <FamilyTables :tables="family.tables" />
    </section>
    <section class="sheet">
      <h2>On other instances of the group</h2>
      <FamilyElsewhere v-bind="ofPart" />
    </section>
    <section class="sheet">
      <h2>Log lines that name it</h2>
      <FamilyLog v-bind="ofPart" />
    </section>
    <section class="sheet">
      <template v-if="family.sample !== family.text">
        <h2>Statement as the server stores it</h2>
        <StatementText :text="family.sample" name="the statement as the server keeps it" />
      </template>
      <p class="muted foot">
        {{ number(family.figures.log_bytes / 1024) }} kB of WAL,
        {{ count(family.figures.temp_written_pages) }} temp pages written in the window.
      </p>
    </section>
  </template>
</template>

<style scoped>
.text {
  margin-bottom: 10px;
}
.advice {
  margin: 0 0 10px;
}
.foot {
  font-size: 12.5px;
  margin: 6px 0 0;
}
</style>
