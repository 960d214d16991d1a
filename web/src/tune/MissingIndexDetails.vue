<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import type { Schemas } from '../api/client'
import { bytes, count, milliseconds, number, percent, seconds } from '../format'
import TableLink from '../ui/TableLink.vue'

/** Why an index is missing: its columns and the reasons for their order, and the statements that it would help. */
const props = defineProps<{ details: Schemas['MissingIndex']; texts: Schemas['FamilyText'][] }>()
const route = useRoute()
const text = computed(() => {
  const texts = new Map(props.texts.map((of) => [of.family_id, of.text]))
  return (family: string) => texts.get(family) ?? ''
})
const ROLES: Record<Schemas['ColumnRole'], string> = {
  equality: 'equality',
  join: 'join',
  range: 'range',
  beginning: 'beginning of a text',
  contents: 'contents',
  order: 'order',
}
const held = computed(() => {
  const holds = props.details.holds
  const ways: Record<Schemas['HeldValue'], string> = {
    null: 'has no value',
    not_null: 'has a value',
    true: 'is true',
    false: 'is false',
  }
  return holds ? { column: holds.column, is: ways[holds.is] } : undefined
})
/** What may be saved, as wide as predictions are; one figure where that makes no difference to three digits. */
const saved = computed(() => {
  const { saved_between: between, saved_seconds_per_day: middle } = props.details
  const [low, high] = [seconds(between?.low ?? middle), seconds(between?.high ?? middle)]
  return low === high ? low : `${low} to ${high}`
})
/** Why a column stands where it stands, before the next one. */
function reason(at: number): string {
  const next = props.details.columns[at + 1]?.name ?? ''
  const reasons: Record<Schemas['PlaceReason'], string> = {
    only_key: 'The only column that the searches narrow by.',
    used_by_more: `Before ${next}: more of the searches on this table compare it for equality.`,
    leaves_fewer_rows: `Before ${next}: it has more distinct values, so fewer rows are left for each.`,
    as_written: `Before ${next} as in the statement: nothing is known that would order them otherwise.`,
    last_equality: 'Last of the columns compared for equality: it has the fewest uses or distinct values.',
    range_last: 'Last: once a range is compared, later columns no longer narrow the search.',
    in_order: 'Rows come in its order, so that the first ones are found without sorting.',
  }
  const of = props.details.columns[at]?.reason
  return of ? reasons[of] : ''
}
</script>

<template>
  <section class="sheet">
    <h2>Why these columns, in this order</h2>
    <table class="figures">
      <thead>
        <tr>
          <th></th>
          <th>column</th>
          <th>compared for</th>
          <th class="number">searches</th>
          <th class="number">distinct values</th>
        </tr>
      </thead>
      <tbody v-for="(column, i) in details.columns" :key="column.name">
        <tr>
          <td class="number">{{ i + 1 }}</td>
          <td class="mono">{{ column.name }}</td>
          <td>{{ ROLES[column.role] }}</td>
          <td class="number">{{ column.searches }} of {{ column.searches_in_all }}</td>
          <td class="number">{{ count(column.distinct_values) }}</td>
        </tr>
        <tr>
          <td></td>
          <td colspan="4" class="muted reason">{{ reason(i) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="details.method === 'gin'">
      It is a GIN index: it keeps what each value is made of, and finds the values that contain what is asked
      for. Writes to it cost more than to a B-tree.
    </p>
    <p v-if="details.carried?.length">
      It carries <code>{{ details.carried.join(', ') }}</code> besides, so that these statements need not read
      the table. This helps as long as vacuum keeps up.
    </p>
    <p v-if="held">
      It holds only rows of which <code>{{ held.column }}</code> {{ held.is }}: every call asks for these.
    </p>
    <p v-if="!details.statistics_known" class="warn">
      The planner's statistics of these columns cannot be read by Hurnix's account, so the order rests on the
      statements alone. Check it against the data.
    </p>
    <p v-for="partial in details.partial_indexes" :key="partial.name">
      <code>{{ partial.name }}</code> cannot serve these searches: it holds only rows where
      <code>{{ partial.condition }}</code>.
    </p>
    <p v-if="details.makes_superfluous.length">
      Once it is there, look at <code>{{ details.makes_superfluous.join(', ') }}</code>: the new index begins
      with the same columns.
    </p>
  </section>
  <section class="sheet whole">
    <h2>Evidence</h2>
    <p class="muted">
      <slot />
      Table <TableLink :database="details.database" :name="`${details.schema}.${details.table}`" /> of
      {{ count(details.table_rows) }} rows in {{ count(details.table_pages) }} pages, with
      {{ details.indexes_present }} indexes. The new one would take about {{ bytes(details.size_bytes) }}, and
      every insert and many updates would maintain it.
      <template v-if="details.cost_factor">
        Predicted costs agree with this server's planner within a factor of {{ number(details.cost_factor) }}:
        {{ saved }} a day may be saved.
      </template>
    </p>
    <table class="figures">
      <thead>
        <tr>
          <th class="number">time per call</th>
          <th class="number">pages per call</th>
          <th class="number">rows</th>
          <th class="number">calls a day</th>
          <th class="number" title="share of the calls that scan the whole table, judged by their pages">
            seq scans
          </th>
          <th class="number">saves a day</th>
          <th class="wide">statement</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="helped in details.families" :key="helped.family">
          <td class="number">
            {{ milliseconds(helped.now_ms) }} → {{ milliseconds(helped.predicted_ms) }}
            <span v-if="helped.predicted_between_ms" class="muted between">{{
              `${milliseconds(helped.predicted_between_ms.low)} to ${milliseconds(helped.predicted_between_ms.high)}`
            }}</span>
          </td>
          <td class="number">{{ number(helped.now_pages) }} → {{ number(helped.predicted_pages) }}</td>
          <td class="number">{{ number(helped.rows_per_call) }}</td>
          <td class="number">{{ count(helped.calls_per_day) }}</td>
          <td class="number">{{ percent(helped.full_read_share) }}</td>
          <td class="number">{{ seconds(helped.saved_seconds_per_day) }}</td>
          <td class="wide">
            <RouterLink
              class="mono one-line"
              :to="{ name: 'family', params: { family: helped.family }, query: { last: route.query.last } }"
              :title="text(helped.family)"
              >{{ text(helped.family) }}</RouterLink
            >
          </td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.reason {
  font-size: 12.5px;
  padding-top: 0;
}
.between {
  display: block;
  font-size: 12.5px;
}
.whole {
  grid-column: 1 / -1;
}
.wide {
  width: 100%;
  max-width: 0;
}
.warn {
  border-left: 4px solid var(--warn);
  padding-left: 8px;
  margin-top: 8px;
}
</style>
