<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import AnswerChange from './AnswerChange.vue'
import { between, clock, milliseconds, number, seconds, timesAs } from '../format'
import ChangeBands from '../pictures/ChangeBands.vue'

/** One lasting change: what, since when, how surely, and what else differs. */
const props = defineProps<{ change: Schemas['Change'] }>()
defineEmits<{ answered: [] }>()
const slower = computed(() => props.change.ratio.value > 1)
const interval = computed(() => {
  const { low, high } = props.change.ratio
  return slower.value ? `${number(low)} to ${number(high)}` : `${number(1 / high)} to ${number(1 / low)}`
})
const rows = computed(() => {
  const { before, after } = props.change
  return [
    {
      name: 'time per call, typical',
      before: milliseconds(before.typical),
      after: milliseconds(after.typical),
    },
    { name: 'pages per call', before: number(before.pages_per_call), after: number(after.pages_per_call) },
    { name: 'rows per call', before: number(before.rows_per_call), after: number(after.rows_per_call) },
    {
      name: 'calls per second',
      before: number(before.calls_per_second),
      after: number(after.calls_per_second),
    },
    { name: 'observed for', before: seconds(before.seconds), after: seconds(after.seconds) },
  ]
})
const TURNOUTS: Record<Schemas['Turnout'], string> = {
  found: 'found',
  grew: 'larger than told before',
  shrank: 'smaller than told before',
  moved: 'began at another time than told before',
  over: 'over',
  passed: 'back to the old level',
  holds_again: 'holds after all',
  withdrawn: 'withdrawn: more figures showed no change',
}
const CAUSES: Record<Schemas['CauseKind'], string> = {
  plan: 'another plan',
  missing_index: 'missing index',
  rows: 'more rows',
  pages: 'more pages',
  hit_ratio: 'colder cache',
  spill: 'spill to disk',
  waits: 'waits',
  whole_server: 'the whole server',
  other_statement: 'another statement',
  statistics: 'planner statistics',
  setting: 'setting',
  index: 'index',
  table: 'table',
  noted: 'marker',
  server: 'server',
}
const FASTER: Partial<typeof CAUSES> = { rows: 'fewer rows', pages: 'fewer pages', hit_ratio: 'warmer cache' }
const cause = (kind: Schemas['CauseKind']) => (slower.value ? undefined : FASTER[kind]) ?? CAUSES[kind]
const turnedOut = computed(() => props.change.story.slice(1))
const signed = (value: number) => `${value > 0 ? '+' : value < 0 ? '−' : ''}${number(Math.abs(value))} s/s`
</script>

<template>
  <section class="sheet change" data-test="change">
    <h2>
      {{ slower ? '◆ Slower' : 'Faster' }} {{ change.until ? 'from' : 'since' }}
      {{ clock(change.onset, new Date())
      }}<template v-if="change.until"> to {{ clock(change.until, new Date()) }}</template
      ><template v-if="change.passed">, and back to the old level</template
      ><template v-if="change.withdrawn">: withdrawn</template>
    </h2>
    <AnswerChange v-if="!change.withdrawn" :change="change" @answered="$emit('answered')" />
    <div class="columns">
      <div>
        <p>
          A call {{ change.until ? 'took' : 'takes' }} <b>{{ timesAs(change.ratio.value) }}</b> ({{
            interval
          }}, with 95 % certainty). Found at {{ clock(change.found_at, new Date()) }}.
          <template v-if="change.onset_between && change.onset_between.from !== change.onset_between.to">
            The onset lies within {{ between(change.onset_between) }}, with 95 % certainty.
          </template>
        </p>
        <p>
          Effect on the family's time: {{ signed(change.from_time_per_call) }} from
          {{ slower ? 'slower' : 'faster' }} calls, {{ signed(change.from_calls) }} from
          {{ change.from_calls < 0 ? 'fewer' : 'more' }} calls. That
          {{ change.lost_seconds < 0 ? 'saved' : 'cost' }} {{ seconds(Math.abs(change.lost_seconds)) }} of
          statement time {{ change.until ? 'until it was over' : 'so far' }}.
        </p>
        <div v-if="change.causes" data-test="causes">
          <p v-if="!change.causes.length" class="muted">
            Cause unknown: rows, pages, waits and plans do not explain it, and nothing was noted at that time.
          </p>
          <dl v-else class="causes">
            <template v-for="(one, place) in change.causes" :key="one.evidence">
              <dt>{{ place ? 'or' : 'likely' }} {{ cause(one.kind) }}</dt>
              <dd>
                {{ one.evidence }}. <i v-if="one.against">Against it: {{ one.against }}.</i>
              </dd>
            </template>
          </dl>
        </div>
        <ChangeBands :change="change" />
        <ol v-if="turnedOut.length" class="story" data-test="story">
          <li v-for="entry in turnedOut" :key="entry.at + entry.turnout">
            {{ clock(entry.at, new Date()) }}: {{ TURNOUTS[entry.turnout]
            }}<template v-if="entry.turnout === 'grew' || entry.turnout === 'shrank'"
              >, {{ timesAs(entry.ratio) }}</template
            ><template v-if="entry.turnout === 'moved'">, {{ clock(entry.onset, new Date()) }}</template>
          </li>
        </ol>
      </div>
      <table class="figures">
        <thead>
          <tr>
            <th></th>
            <th class="number">before</th>
            <th class="number">since</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="row in rows" :key="row.name">
            <td>{{ row.name }}</td>
            <td class="number">{{ row.before }}</td>
            <td class="number">{{ row.after }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.change {
  border-left: 4px solid var(--plum);
}
.causes {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 12px;
  margin: 0 0 10px;
}
.causes dt {
  font-weight: 600;
}
.causes dd {
  margin: 0;
}
.story {
  margin: 8px 0 0;
  padding-left: 18px;
}
.columns {
  display: grid;
  grid-template-columns: 1fr minmax(300px, 38%);
  gap: 24px;
  align-items: start;
}
</style>
