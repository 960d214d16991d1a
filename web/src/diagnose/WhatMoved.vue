<script setup lang="ts">
import { computed, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { asQuery } from '../composables/useWindow'
import { between, counted, number } from '../format'
import DataTable from '../ui/DataTable.vue'
import PageState from '../ui/PageState.vue'
import type { Column } from '../ui/table'
import { courseName } from './courseRows'
import { inUnit } from './measured'

/** What moved on an instance in a span of time, and on the others of its group. */
const props = defineProps<{ instanceId: number; span: { from: Date; to: Date } }>()
type Row = Schemas['MovedFigure']
const { loaded, data, reload } = useLoaded(
  () => `${props.instanceId} ${+props.span.from} ${+props.span.to}`,
  () => 0,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/moved', {
        params: {
          path: { instance_id: props.instanceId },
          query: asQuery(props.span),
        },
      }),
    ),
)
/** What was as usual is of interest only to whoever looks for it. */
const showsAll = ref(false)
const outside = computed(() => data.value?.figures.filter((one) => one.is_outside) ?? [])
const rows = computed(() => (showsAll.value ? (data.value?.figures ?? []) : outside.value))
const judged = computed(() =>
  data.value
    ? between({ from: new Date(data.value.span.from), to: new Date(data.value.span.to) })
    : between(props.span),
)
const range = (row: Row) => `${inUnit(Math.max(0, row.low), row.unit)} to ${inUnit(row.high, row.unit)}`
const way = (row: Row) => (row.reach > 0 ? 'above' : 'below')
const COLUMNS: Column<Row>[] = [
  { key: 'figure', title: 'figure', wide: true, value: courseName },
  {
    key: 'value',
    title: 'mean',
    number: true,
    value: (row) => row.value,
    text: (row) => inUnit(row.value, row.unit),
  },
  { key: 'usual', title: 'usual in these hours', number: true, value: (row) => row.middle, text: range },
  {
    key: 'reach',
    title: 'distance',
    hint: 'from the middle of its usual range, where 1 is the end of the range',
    number: true,
    value: (row) => Math.abs(row.reach),
    text: (row) => `${number(Math.abs(row.reach))} ${way(row)}`,
  },
]
</script>

<template>
  <section class="sheet" data-test="moved">
    <div class="head">
      <h2>What else moved</h2>
      <span class="muted">{{ judged }}</span>
      <button
        v-if="data && data.figures.length > outside.length"
        type="button"
        class="plain all"
        @click="showsAll = !showsAll"
      >
        {{ showsAll ? 'Show those outside only' : `Show all ${data.judged} with a usual range` }}
      </button>
    </div>
    <PageState :loaded="loaded" @retry="reload" />
    <template v-if="data">
      <p v-if="data.judged === 0" class="muted">
        No figure has a usual range yet: ranges are learnt once a day of figures is there.
      </p>
      <p v-else-if="outside.length === 0" class="muted">
        All {{ data.judged }} figures with a usual range were inside of it.
      </p>
      <DataTable
        v-if="rows.length"
        name="moved"
        plain
        :rows="rows"
        :columns="COLUMNS"
        :page-size="60"
        :row-key="(row) => `${row.figure} ${row.object}`"
      />
      <template v-if="data.others_judged > 0">
        <h3>On other instances of its group</h3>
        <p v-if="data.others.length === 0" class="muted">
          Nothing was outside of its usual range on {{ counted(data.others_judged, 'other instance') }}.
        </p>
        <p v-for="other in data.others" :key="other.label">
          <RouterLink :to="{ name: 'resources', params: { instance: other.label }, query: $route.query }"
            ><b>{{ other.label }}</b></RouterLink
          >
          <span v-for="figure in other.figures" :key="`${figure.figure} ${figure.object}`" class="figure">
            {{ courseName(figure) }} {{ inUnit(figure.value, figure.unit) }}
            <span class="muted">(usual {{ range(figure) }})</span>
          </span>
          <span v-if="other.outside > other.figures.length" class="muted">
            and {{ counted(other.outside - other.figures.length, 'more figure') }}</span
          >
        </p>
      </template>
    </template>
  </section>
</template>

<style scoped>
.all {
  margin-left: auto;
}
.head {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
h2,
h3 {
  margin: 0 0 6px;
  font-size: 14px;
}
h3 {
  margin-top: 12px;
}
.figure {
  margin-left: 14px;
}
</style>
