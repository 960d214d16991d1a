<script setup lang="ts">
import { AutoComplete, Button, Popover, Textarea } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import ActionDialog from '../actions/ActionDialog.vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { asQuery } from '../composables/useWindow'
import { ago, clock, number } from '../format'
import { needsInstance, pageNamed, sees } from '../pages'
import ChangeTable from '../diagnose/ChangeTable.vue'
import HealthMark from '../pictures/HealthMark.vue'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import PageState from '../ui/PageState.vue'
import StatementText from '../ui/StatementText.vue'
import { isSentence } from '../ui/statementText'
import AlarmCourse from './AlarmCourse.vue'
import { HAPPENINGS, handled } from './alarmRows'

/** One alarm: what is wrong, what to do, what it rests on, and what happened to it. */
const HOURS = [1, 4, 12, 24, 168]
const route = useRoute()
const roster = useRoster()
const session = useSession()
const alarmId = computed(() => String(route.params.alarm))
const news = computed(() => Object.values(roster.news).reduce((sum, heard) => sum + (heard.alarms ?? 0), 0))
const path = computed(() => ({ alarm_id: alarmId.value }))
const {
  loaded,
  data: alarm,
  reload,
} = useLoaded(alarmId, news, () =>
  answer(api.GET('/api/v1/alarms/{alarm_id}', { params: { path: path.value } })),
)
/** The figures that show it, drawn over time. */
const { loaded: drawn } = useLoaded(alarmId, news, () =>
  answer(api.GET('/api/v1/alarms/{alarm_id}/course', { params: { path: path.value } })),
)
const courses = computed(() => (drawn.value.state === 'ready' ? drawn.value.data : []))
/** What else became another at that time. */
const { loaded: moved } = useLoaded(
  () => alarm.value && `${alarm.value.instance_id} ${alarm.value.began_at}`,
  () => 0,
  async () => {
    if (!alarm.value) return []
    const { instance_id, began_at } = alarm.value
    const params = { path: { instance_id }, query: { near: began_at } }
    return answer(api.GET('/api/v1/instances/{instance_id}/changes', { params }))
  },
)
const changes = computed(() => (moved.value.state === 'ready' ? moved.value.data : []))
const mayHandle = computed(() => session.current?.role !== undefined && session.current.role !== 'reader')
/** The time around the beginning of an alarm, and as much of what followed as one looks at; up to now while it is young. */
const BEFORE_MS = 1_800_000
const MOST_AFTER_MS = 10_800_000
function windowOf({ began_at, closed_at }: Schemas['AlarmFigures']): Record<string, string> {
  const from = Date.parse(began_at) - BEFORE_MS
  const age = Date.now() - from
  if (closed_at == null && age < BEFORE_MS + MOST_AFTER_MS) return { last: `${Math.ceil(age / 60_000)}m` }
  const ended = closed_at == null ? Infinity : Date.parse(closed_at)
  const to = Math.max(Math.min(ended, from + MOST_AFTER_MS), from + BEFORE_MS + 60_000)
  return asQuery({ from: new Date(from), to: new Date(to) })
}
const page = computed(() => {
  const found = pageNamed(alarm.value?.page)
  if (!found || !alarm.value || !sees(session.current?.role, found)) return null
  const more: Record<string, string> = alarm.value.page_id ? { [found.name]: alarm.value.page_id } : {}
  const params = needsInstance(found) ? { instance: alarm.value.instance, ...more } : {}
  const query = found.usesTime ? windowOf(alarm.value) : {}
  return { title: found.title, to: { name: found.name, params, query } }
})
const incident = computed(
  () =>
    alarm.value && {
      name: 'reports',
      params: { instance: alarm.value.instance },
      query: { ...windowOf(alarm.value), kind: 'incident' },
    },
)
const offer = computed(() => (session.current?.role === 'administrator' ? alarm.value?.action : null))
const asking = ref(false)

const { busy, problem, run } = useAction()
async function handle(what: string, request: () => Promise<unknown>): Promise<boolean> {
  const done = await run(what, request)
  await reload()
  return done
}
const acknowledge = (acknowledged: boolean) =>
  handle('acknowledge', () =>
    answer(
      api.PUT('/api/v1/alarms/{alarm_id}/acknowledgement', {
        params: { path: path.value },
        body: { acknowledged },
      }),
    ),
  )
const [assigning, snoozing] = [ref(false), ref(false)]
const name = ref('')
async function assign(assigned_to: string | undefined): Promise<void> {
  const done = await handle('assign', () =>
    answer(
      api.PUT('/api/v1/alarms/{alarm_id}/assignment', {
        params: { path: path.value },
        body: { assigned_to },
      }),
    ),
  )
  if (done) assigning.value = false
}
async function snooze(hours: number | null): Promise<void> {
  const until = hours === null ? undefined : new Date(Date.now() + hours * 3_600_000).toISOString()
  await handle('snooze', () =>
    answer(
      api.PUT('/api/v1/alarms/{alarm_id}/snooze', {
        params: { path: path.value },
        body: { snoozed_until: until },
      }),
    ),
  )
  snoozing.value = false
}
const comment = ref('')
async function write(): Promise<void> {
  const done = await handle('comment', () =>
    answer(
      api.POST('/api/v1/alarms/{alarm_id}/comments', {
        params: { path: path.value },
        body: { comment: comment.value },
      }),
    ),
  )
  if (done) comment.value = ''
}
const hours = (value: number) => (value < 24 ? `${value} h` : `${value / 24} d`)
</script>

<template>
  <div class="page-head">
    <h1>{{ alarm?.title ?? 'Alarm' }}</h1>
    <RouterLink v-if="alarm" :to="{ name: 'load', params: { instance: alarm.instance } }">{{
      alarm.instance
    }}</RouterLink>
    <RouterLink v-if="incident" :to="incident" class="no-print">Incident report</RouterLink>
    <RouterLink :to="{ name: 'alarms' }" class="muted no-print">All alarms</RouterLink>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="alarm">
    <div class="sheet head">
      <HealthMark :health="alarm.closed_at ? 'quiet' : (alarm.asks ?? alarm.verdict)" />
      <div>
        <p class="text">{{ alarm.text }}</p>
        <p class="muted">
          <template v-if="alarm.closed_at">Closed {{ clock(alarm.closed_at, new Date()) }}. </template>
          Began {{ ago(alarm.began_at, new Date()) }}, {{ clock(alarm.began_at, new Date()) }}; last seen
          {{ ago(alarm.seen_at, new Date()) }}.
          <template v-if="alarm.lost_seconds_per_second > 0"
            >It costs {{ number(alarm.lost_seconds_per_second) }} s in each second.</template
          >
          <template v-if="handled(alarm, new Date())"> {{ handled(alarm, new Date()) }}.</template>
        </p>
        <div v-if="mayHandle && !alarm.closed_at" class="acts no-print">
          <Button
            v-if="!alarm.acknowledged_by"
            type="primary"
            :loading="busy === 'acknowledge'"
            @click="acknowledge(true)"
            >Acknowledge</Button
          >
          <Button v-else :loading="busy === 'acknowledge'" @click="acknowledge(false)"
            >Undo acknowledgement</Button
          >
          <Popover v-model:open="assigning" trigger="click" placement="bottomLeft">
            <template #content>
              <form class="form" @submit.prevent="assign(name.trim() || undefined)">
                <label for="assign-to">Account</label>
                <AutoComplete
                  id="assign-to"
                  :value="name"
                  :options="[{ value: session.current?.name ?? '' }]"
                  placeholder="nobody"
                  @change="(value) => (name = String(value ?? ''))"
                />
                <Button type="primary" html-type="submit" size="small">Save</Button>
              </form>
            </template>
            <Button>Assign</Button>
          </Popover>
          <Popover v-model:open="snoozing" trigger="click" placement="bottomLeft">
            <template #content>
              <div class="acts">
                <Button v-for="value in HOURS" :key="value" size="small" @click="snooze(value)">{{
                  hours(value)
                }}</Button>
                <Button v-if="alarm.snoozed_until" size="small" @click="snooze(null)">End snooze</Button>
              </div>
            </template>
            <Button>Snooze</Button>
          </Popover>
        </div>
        <ProblemNote v-if="problem" :problem="problem" @retry="reload" />
      </div>
    </div>

    <section v-if="alarm.step || page" class="sheet">
      <h2>What to do</h2>
      <p>
        {{ alarm.step }}
        <RouterLink v-if="page" :to="page.to" class="no-print" data-test="next-page"
          >See {{ page.title }}</RouterLink
        >
      </p>
      <p v-if="alarm.statement && isSentence(alarm.statement)">{{ alarm.statement }}</p>
      <StatementText v-else-if="alarm.statement" :text="alarm.statement" name="the statement to run" />
      <template v-if="offer && !alarm.closed_at">
        <Button size="small" class="no-print" @click="asking = true">{{ offer.title }} …</Button>
        <ActionDialog
          v-if="asking"
          :instance-id="alarm.instance_id"
          :asked="offer.asked"
          @close="asking = false"
        />
      </template>
    </section>

    <section v-if="alarm.consequences.length" class="sheet" data-test="consequences">
      <h2>Seen together with it</h2>
      <ul>
        <li v-for="text in alarm.consequences" :key="text">{{ text }}</li>
      </ul>
    </section>

    <p v-if="drawn.state === 'failed'" class="muted">
      The figures that show it could not be read: {{ drawn.problem.detail }}
    </p>
    <section v-if="courses.length" class="sheet" data-test="course">
      <h2>Over time</h2>
      <AlarmCourse :courses="courses" />
    </section>

    <section v-if="alarm.facts.length" class="sheet">
      <h2>Evidence</h2>
      <table class="facts">
        <tbody>
          <tr v-for="fact in alarm.facts" :key="fact.what">
            <th scope="row">{{ fact.what }}</th>
            <td>{{ fact.value }}</td>
          </tr>
        </tbody>
      </table>
    </section>

    <section v-if="changes.length" class="sheet" data-test="moved">
      <h2>What else changed within an hour of it, and stayed so</h2>
      <ChangeTable name="moved" :changes="changes" :instance="alarm.instance" />
    </section>

    <section class="sheet" data-test="story">
      <h2>Story</h2>
      <ol>
        <li v-for="(entry, at) in alarm.story" :key="at">
          <span class="muted">{{ clock(entry.at, new Date()) }}</span>
          <b>{{ HAPPENINGS[entry.what] }}</b>
          <span
            >{{ entry.text }}<span v-if="entry.by" class="muted"> {{ entry.by }}</span></span
          >
        </li>
      </ol>
      <form v-if="mayHandle" class="comment no-print" @submit.prevent="write">
        <label for="comment">Comment</label>
        <Textarea id="comment" v-model:value="comment" :rows="2" :maxlength="2000" />
        <Button html-type="submit" :disabled="!comment.trim()" :loading="busy === 'comment'">Add</Button>
      </form>
    </section>
  </template>
</template>

<style scoped>
.head {
  display: grid;
  grid-template-columns: 80px 1fr;
  gap: 8px;
  align-items: baseline;
}
.head p {
  margin: 0 0 6px;
}
.text {
  font-size: 16px;
  font-weight: 600;
  overflow-wrap: anywhere;
}
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
.acts {
  display: flex;
  gap: 8px;
}
.form {
  display: grid;
  gap: 8px;
  width: 220px;
}
ul {
  margin: 0;
  padding-left: 20px;
}
.facts th {
  text-align: left;
  font-weight: 400;
  padding: 2px 16px 2px 0;
  color: var(--muted);
}
ol {
  list-style: none;
  margin: 0 0 10px;
  padding: 0;
}
ol li {
  display: grid;
  grid-template-columns: 150px 170px 1fr;
  gap: 8px;
  padding: 2px 0;
}
.comment {
  display: grid;
  grid-template-columns: 80px 1fr auto;
  gap: 8px;
  align-items: start;
}
</style>
