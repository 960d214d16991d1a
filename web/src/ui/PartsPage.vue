<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Loaded } from '../composables/useLoaded'
import { bytes, count, milliseconds, percent, seconds } from '../format'
import ChartPicture, { type ChartSeries } from '../pictures/ChartPicture.vue'
import HealthMark from '../pictures/HealthMark.vue'
import MiniStrip from '../pictures/MiniStrip.vue'
import StripStack, { type StripRow } from '../pictures/StripStack.vue'
import ConfirmButton from './ConfirmButton.vue'
import CopyButton from './CopyButton.vue'
import DataTable from './DataTable.vue'
import FigureText from './FigureText.vue'
import FormField from './FormField.vue'
import PageState from './PageState.vue'
import ProgressNote from './ProgressNote.vue'
import StatementText from './StatementText.vue'
import type { Column } from './table'

/** Every part that pages are made of, side by side; while the front end is developed only. */
const now = Date.now()
const MINUTE = 60_000
const starts = Array.from(
  { length: 60 },
  (_, i) => new Date(Math.floor(now / MINUTE) * MINUTE - (60 - i) * MINUTE),
)
const wave = (i: number, by: number) =>
  i % 17 === 5 ? null : Math.abs(Math.sin(i / by)) * 3 + (i > 40 ? 2 : 0)
const strips = computed((): StripRow[] =>
  [7, 11].map((by, row) => ({
    key: String(row),
    label: row === 0 ? 'busy sessions' : 'storage read',
    values: starts.map((_, i) => wave(i, by)),
    ink: row === 0 ? 'url(#ink-plum)' : 'var(--muted)',
    figures: ['1.9', '4.8'],
    full: 5,
    tall: row === 0,
    write: (value: number) => value.toFixed(2),
  })),
)
const curves: ChartSeries[] = [
  { name: 'now', kind: 'line', points: starts.map((at, i) => [at.getTime(), wave(i, 7)]) },
  { name: 'then', kind: 'line', ink: 'ink', points: starts.map((at, i) => [at.getTime(), wave(i + 3, 7)]) },
]
const bars: ChartSeries[] = [
  { name: 'storage wait saved', kind: 'bar', points: [1, 2, 4, 8, 16].map((gib) => [gib, 40 / gib]) },
]
const dots: ChartSeries[] = [
  { name: 'time per call', kind: 'scatter', points: starts.map((_, i) => [i, 2 + ((i * 37) % 23) / 5]) },
]
interface Row {
  name: string
  bytes: number
}
const rows: Row[] = ['passage_leg', 'gate_scan', 'crossing'].map((name, i) => ({
  name,
  bytes: 9e9 / (i + 1),
}))
const columns: Column<Row>[] = [
  { key: 'name', title: 'table', wide: true, value: (row) => row.name },
  {
    key: 'size',
    title: 'size',
    number: true,
    value: (row) => row.bytes,
    text: (row) => bytes(row.bytes),
    total: (all) => bytes(all.reduce((sum, row) => sum + row.bytes, 0)),
  },
]
const text = ref('five')
const states: { says: string; loaded: Loaded<string> }[] = [
  { says: 'loading', loaded: { state: 'loading' } },
  {
    says: 'failed',
    loaded: {
      state: 'failed',
      problem: {
        type: 'urn:x',
        title: 'Not answered',
        status: 503,
        detail: 'The repository does not answer.',
        errors: [],
      },
    },
  },
]
</script>

<template>
  <div class="page-head">
    <h1>Parts</h1>
    <span class="muted">What pages are made of</span>
  </div>
  <section class="sheet">
    <h2>Figures</h2>
    <FigureText
      :text="milliseconds(1.234)"
      of="Mean time per call"
      window="06:00 – 07:00"
      source="figures as read"
    />
    · {{ seconds(5400) }} · {{ bytes(9e9) }} · {{ percent(0.031) }} · {{ count(1234567) }}
    <HealthMark health="act" /> <HealthMark health="look" /> <HealthMark health="quiet" />
    <HealthMark health="no_data" />
  </section>
  <section class="sheet" data-test="pictures">
    <h2>Strips and curves, with one cursor</h2>
    <StripStack
      :starts="starts"
      :cell-seconds="60"
      :rows="strips"
      :figure-heads="['mean', 'peak']"
      :chosen="null"
      :markers="[{ at: starts[40]!, text: 'release' }]"
      figures-of="the last hour, figures as read"
      read-only
    />
    <ChartPicture
      label="Busy sessions"
      is-time
      :series="curves"
      :from="starts[0]!.getTime()"
      :to="starts[59]!.getTime() + MINUTE"
      :write="(value) => value.toFixed(1)"
    />
    <div class="pair">
      <ChartPicture
        label="Memory"
        :series="bars"
        :from="0"
        :to="18"
        :write="(value) => seconds(value)"
        :write-across="(value) => `${value} GiB`"
      />
      <ChartPicture
        label="Calls"
        :series="dots"
        :from="0"
        :to="60"
        :write="(value) => milliseconds(value)"
        :write-across="String"
      />
    </div>
    <MiniStrip :cells="starts.map((_, i) => wave(i, 9))" label="Load" />
  </section>
  <section class="sheet">
    <h2>Table</h2>
    <DataTable
      name="parts"
      :rows="rows"
      :columns="columns"
      :row-key="(row) => row.name"
      one="table"
      figures-of="now, the catalog"
    />
  </section>
  <section class="sheet">
    <h2>Statement, form, long work</h2>
    <StatementText
      text="SELECT passage_leg_id, seat FROM passage_leg WHERE crossing_id = $1 AND state >= $2 ORDER BY seat"
      name="the statement"
    />
    <FormField label="Port" for="port" fault="port “five”: Give a port from 1 to 65535.">
      <input id="port" v-model="text" />
    </FormField>
    <ProgressNote
      phase="acquiring sample rows"
      :share="0.4"
      :begun-at="new Date(now - MINUTE)"
      stops="can"
      @stop="text = 'stopped'"
    />
    <CopyButton text="copied" name="the text" />
    <ConfirmButton lost="The history of the instance is lost." action="Delete" @confirm="text = 'deleted'" />
  </section>
  <section v-for="state in states" :key="state.says" class="sheet">
    <h2>A page that is {{ state.says }}</h2>
    <PageState :loaded="state.loaded" />
  </section>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 20px;
}
</style>
