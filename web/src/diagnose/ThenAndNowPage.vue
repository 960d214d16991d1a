<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import { between, clock, count, counted, milliseconds, number, seconds, source } from '../format'
import KindSwatch from '../pictures/KindSwatch.vue'
import ProblemNote from '../pictures/ProblemNote.vue'
import { KINDS } from '../pictures/kinds'
import { useHistory } from '../stores/history'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import { courseName } from './courseRows'
import { inUnit } from './measured'
import { inWords, signed } from './thenAndNow'

/** Two periods side by side: what differs most by time first, each with its likely why. */
type Data = Schemas['ThenAndNow']
type Statement = Schemas['StatementMoved']
type Figure = Schemas['FigureThenAndNow']
type Table = Schemas['TableMoved']
const DAY = 86_400_000

const { instance } = useInstance()
const news = useNews('findings')
const { window, then, key, setThen } = useWindow(news)
const route = useRoute()
const router = useRouter()
const history = useHistory()
const id = computed(() => instance.value?.instance_id ?? 0)
const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${key.value} ${String(route.query.then)} ${String(route.query.then_to)}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/then-and-now', {
        params: {
          path: { instance_id: id.value },
          query: {
            ...asQuery(window.value),
            then_from: then.value?.from.toISOString(),
            then_to: then.value?.to.toISOString(),
          },
        },
      }),
    ),
)
const spanOf = (span: Schemas['Span']) => between({ from: new Date(span.from), to: new Date(span.to) })
const unseen = (period: Schemas['PeriodFigures']) => period.coverage.periods === 0

/** All of the week before, whatever is looked at. */
function setWeekBefore(): void {
  const to = window.value.from
  const from = new Date(+to - 7 * DAY)
  void router.push({
    query: { ...route.query, then: from.toISOString(), then_to: to.toISOString() },
  })
}
/** The periods around a marker: a day from it, and the same hours before. */
const { problem, run } = useAction()
const lastMarker = ref('')
async function around(marker: string): Promise<void> {
  lastMarker.value = marker
  let periods: Schemas['PeriodsAround'] | undefined
  await run('around', async () => {
    periods = await answer(
      api.GET('/api/v1/instances/{instance_id}/markers/{marker_id}/periods', {
        params: { path: { instance_id: id.value, marker_id: marker } },
      }),
    )
  })
  if (!periods) return
  void router.push({
    query: {
      ...route.query,
      last: undefined,
      from: periods.now.from,
      to: periods.now.to,
      then: periods.then.from,
      then_to: undefined,
    },
  })
}
const markers = computed(() => [...(history.history?.markers ?? [])].reverse())

const each = (value: number | null | undefined) => (value == null ? '' : milliseconds(value))
/** Seconds of each second that a statement takes more now, or a part of them. */
const gained = (part: 'by' | 'by_calls' | 'by_each', title: string, hint: string): Column<Statement> => ({
  key: part === 'by' ? 'moved' : part,
  title,
  hint,
  number: true,
  value: (row) => row.moved[part],
  text: (row) => signed(row.moved[part], number),
})
const SIDES = ['then', 'now'] as const
const STATEMENTS: Column<Statement>[] = [
  gained('by', 'time, s/s', 'seconds of each second that it takes more now than then'),
  gained('by_calls', 'by calls', 'of it, because of more or fewer calls'),
  gained('by_each', 'by each call', 'of it, because each call took longer or shorter'),
  ...SIDES.map((side): Column<Statement> => ({
    key: `${side}_each`,
    title: `call ${side}`,
    number: true,
    value: (row) => row[`${side}_each_ms`],
    text: (row) => each(row[`${side}_each_ms`]),
  })),
  ...SIDES.map((side): Column<Statement> => ({
    key: `${side}_calls`,
    title: `calls/s ${side}`,
    aside: true,
    number: true,
    value: (row) => row.calls[side],
    text: (row) => number(row.calls[side]),
  })),
  { key: 'why', title: 'why', value: (row) => row.why.map(inWords).join('; ') || 'not known' },
  { key: 'text', title: 'statement', wide: true, value: (row) => row.text },
]
const FIGURES: Column<Figure>[] = [
  { key: 'figure', title: 'figure', wide: true, value: courseName },
  ...SIDES.map((side): Column<Figure> => ({
    key: side,
    title: side,
    number: true,
    value: (row) => row.mean[side],
    text: (row) => inUnit(row.mean[side], row.unit),
  })),
  {
    key: 'apart',
    title: 'moved',
    hint: 'within what is usual for its hours: 1 is from the middle of its range to the end',
    number: true,
    value: (row) => Math.abs(row.apart),
    text: (row) => signed(row.apart, number),
  },
]
const rate = (
  key: 'read_rows' | 'full_read_rows' | 'changed_rows',
  title: string,
  hint: string,
): Column<Table>[] =>
  SIDES.map((side) => ({
    key: `${key}_${side}`,
    title: `${title} ${side}`,
    hint: `${hint}, for each second`,
    number: true,
    value: (row: Table) => row[key][side],
    text: (row: Table) => number(row[key][side]),
  }))
const TABLES: Column<Table>[] = [
  { key: 'name', title: 'table', wide: true, value: (row) => row.name },
  ...rate('read_rows', 'read', 'rows read, by full reads and by index'),
  ...rate('full_read_rows', 'full reads', 'rows that full reads went through'),
  ...rate('changed_rows', 'changed', 'rows inserted, updated and deleted'),
]
/** Wait kinds that were seen in either period. */
const kinds = computed(() => {
  const both = data.value
  if (!both) return []
  return KINDS.map((kind, at) => ({
    ...kind,
    at,
    then: both.then.load.kinds[at] ?? 0,
    now: both.now.load.kinds[at] ?? 0,
  })).filter(({ then, now }) => then > 0 || now > 0)
})
const figuresOf = (both: Data) =>
  `${spanOf(both.then.span)} and ${spanOf(both.now.span)}, ${source(both.now.coverage.detail)}`
const sum = (both: Data) => [
  { name: 'time in statements', then: both.then.time, now: both.now.time, unit: 's/s' },
  { name: 'calls', then: both.then.calls, now: both.now.calls, unit: '/s' },
  ...(both.then.transactions != null && both.now.transactions != null
    ? [{ name: 'transactions', then: both.then.transactions, now: both.now.transactions, unit: '/s' }]
    : []),
  { name: 'busy sessions', then: both.then.load.total, now: both.now.load.total, unit: '' },
]
</script>

<template>
  <div class="page-head">
    <h1>Then &amp; now</h1>
    <span class="muted">Two periods side by side, what differs most by time first</span>
    <RouterLink :to="{ name: 'reports', query: { ...route.query, kind: 'then_and_now' } }">Report</RouterLink>
  </div>
  <div class="sheet choose">
    <span> <b>Now</b> {{ between(window) }} <b>then</b> {{ data ? spanOf(data.then.span) : '' }} </span>
    <span class="muted">Compare with</span>
    <button type="button" class="plain" @click="setThen('1d')">a day before</button>
    <button type="button" class="plain" @click="setThen('7d')">a week before</button>
    <button type="button" class="plain" @click="setWeekBefore">all of the week before</button>
    <ChoiceSelect
      v-if="markers.length"
      model-value=""
      :options="[
        { value: '', label: 'before and after a marker …' },
        ...markers.map((marker) => ({
          value: marker.marker_id,
          label: `${clock(marker.at, new Date(), false)} ${marker.text}`,
        })),
      ]"
      name="Compare the hours before and after a marker"
      class="markers"
      @update:model-value="around"
    />
  </div>
  <ProblemNote v-if="problem" :problem="problem" @retry="around(lastMarker)" />
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="data">
    <p v-for="caution in data.likeness.cautions" :key="caution" class="caution" data-test="caution">
      {{ caution }}
    </p>
    <p v-if="unseen(data.then) || unseen(data.now)" class="sheet" data-test="unseen">
      Nothing is known of {{ unseen(data.then) ? 'then' : 'now' }}: no period of it has figures. Choose other
      hours.
    </p>
    <template v-else>
      <section class="sheet">
        <p class="verdict" data-test="verdict">
          Statements take {{ signed(data.moved.by, number) }} s more of each second now:
          {{ signed(data.moved.by_calls, number) }} by how often they are called,
          {{ signed(data.moved.by_each, number) }} by how long each call takes.
        </p>
        <div class="side-by-side">
          <table>
            <thead>
              <tr>
                <th></th>
                <th class="figure">then</th>
                <th class="figure">now</th>
                <th class="figure">difference</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="row in sum(data)" :key="row.name">
                <td>{{ row.name }}</td>
                <td class="figure">{{ number(row.then) }} {{ row.unit }}</td>
                <td class="figure">{{ number(row.now) }} {{ row.unit }}</td>
                <td class="figure">{{ signed((row.now ?? 0) - (row.then ?? 0), number) }} {{ row.unit }}</td>
              </tr>
            </tbody>
          </table>
          <table data-test="kinds">
            <thead>
              <tr>
                <th>busy sessions by wait kind</th>
                <th class="figure">then</th>
                <th class="figure">now</th>
                <th class="figure">difference</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="kind in kinds" :key="kind.key">
                <td :title="kind.plain"><KindSwatch :kind="kind.at" /> {{ kind.label }}</td>
                <td class="figure">{{ number(kind.then) }}</td>
                <td class="figure">{{ number(kind.now) }}</td>
                <td class="figure">{{ signed(kind.now - kind.then, number) }}</td>
              </tr>
              <tr v-for="event in data.events.slice(0, 5)" :key="event.name" class="event">
                <td>{{ event.name }}</td>
                <td class="figure">{{ number(event.load.then) }}</td>
                <td class="figure">{{ number(event.load.now) }}</td>
                <td class="figure">{{ signed(event.load.now - event.load.then, number) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <section class="sheet">
        <h2>Statements</h2>
        <DataTable
          name="moved"
          test="statements-moved"
          :rows="data.statements"
          :columns="STATEMENTS"
          :row-key="(row) => row.family_id"
          :page-size="15"
          one="statement"
          :figures-of="figuresOf(data)"
        >
          <template #tools
            ><span v-if="data.families > data.statements.length" class="muted foot"
              >the {{ data.statements.length }} that moved most, of {{ count(data.families) }}</span
            ></template
          >
          <template #empty><p class="muted">No statement ran in either period.</p></template>
          <template #cell-text="{ row }">
            <RouterLink
              class="mono one-line"
              :to="{ name: 'family', params: { family: row.family_id }, query: route.query }"
              :title="row.text"
              >{{ row.text }}</RouterLink
            >
          </template>
          <template #cell-why="{ row }">
            <div class="why">
              {{ row.why.map(inWords).join('; ') || 'not known' }}
              <span v-if="row.change_began_at" class="muted"
                >· lasting change since {{ clock(row.change_began_at, new Date(), false) }}</span
              >
            </div>
          </template>
        </DataTable>
      </section>
      <section v-if="data.figures.length" class="sheet">
        <h2>Figures of the server</h2>
        <DataTable
          name="figures"
          test="figures-moved"
          :rows="data.figures"
          :columns="FIGURES"
          :row-key="(row) => `${row.figure} ${row.object}`"
          :page-size="10"
          one="figure"
          :figures-of="figuresOf(data)"
        />
      </section>
      <section v-if="data.tables.length" class="sheet">
        <h2>Tables</h2>
        <DataTable
          name="tables"
          test="tables-moved"
          :rows="data.tables"
          :columns="TABLES"
          :row-key="(row) => row.name"
          :page-size="10"
          one="table"
          :figures-of="figuresOf(data)"
        />
      </section>
      <section class="sheet" data-test="happened">
        <h2>What happened from the begin of then to the end of now</h2>
        <p v-if="!data.settings.length && !data.markers.length && !data.alarms.length" class="muted">
          No setting was changed, no marker was noted or found, and no alarm was open.
        </p>
        <ul>
          <li v-for="one in data.settings" :key="`${one.name} ${one.at}`">
            {{ clock(one.at, new Date()) }}: setting <span class="mono">{{ one.name }}</span> from
            {{ one.before ?? 'nothing' }} to {{ one.after ?? 'nothing'
            }}{{ one.unit ? `, in ${one.unit}` : '' }}
          </li>
          <li v-for="marker in data.markers" :key="marker.marker_id">
            {{ clock(marker.at, new Date()) }}: {{ marker.text }}
          </li>
          <li v-for="alarm in data.alarms" :key="alarm.alarm_id">
            Alarm {{ alarm.was_then && alarm.is_now ? 'in both' : alarm.is_now ? 'now' : 'then' }}:
            <RouterLink :to="{ name: 'alarm', params: { alarm: alarm.alarm_id } }">{{
              alarm.text
            }}</RouterLink>
            <span class="muted">
              opened at {{ clock(alarm.opened_at, new Date())
              }}{{
                alarm.closed_at
                  ? `, for ${seconds((Date.parse(alarm.closed_at) - Date.parse(alarm.opened_at)) / 1000)}`
                  : ', still open'
              }}</span
            >
          </li>
        </ul>
        <p v-for="side in ['then', 'now'] as const" :key="side" class="muted">
          <template v-if="data[side].coverage.without.length">
            {{ counted(data[side].coverage.without.length, 'reading') }} of {{ side }} without figures for the
            time before: {{ data[side].coverage.without[0]!.reason }}.
          </template>
        </p>
      </section>
    </template>
  </template>
</template>

<style scoped>
.choose {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 14px;
  align-items: baseline;
}
.markers {
  max-width: 260px;
}
.caution {
  margin: 0 0 8px;
  font-weight: 600;
}
.verdict {
  margin: 0 0 10px;
  font-weight: 600;
}
.side-by-side {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 28px;
  align-items: start;
}
.side-by-side table {
  width: 100%;
}
th {
  text-align: left;
  font-weight: 600;
}
.figure {
  text-align: right;
  white-space: nowrap;
}
.event td {
  font-size: 12.5px;
}
.event td:first-child {
  padding-left: 18px;
}
ul {
  margin: 0;
  padding-left: 18px;
}
.why {
  min-width: 230px;
}
.foot {
  margin-right: auto;
}
</style>
