<script setup lang="ts">
import { AutoComplete, Button, Select } from 'ant-design-vue'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { useInstance } from '../composables/useInstance'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import { between, counted, seconds, source } from '../format'
import StripStack, { type StripRow } from '../pictures/StripStack.vue'
import { useHistory } from '../stores/history'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import PageState from '../ui/PageState.vue'
import { courseName, courseRow, parsePicked, same, writePicked, type Picked } from './courseRows'

/** Figures of any instances on one axis, put together by hand; the address holds them, so that they can be sent. */
const { instance } = useInstance()
const roster = useRoster()
const session = useSession()
const history = useHistory()
const route = useRoute()
const router = useRouter()
const news = useNews('figures')
const { window, key } = useWindow(news)
const MOST = 40

const rowsWanted = computed(() => parsePicked(route.query.rows).slice(0, MOST))
function put(rows: readonly Picked[]): void {
  void router.replace({ query: { ...route.query, rows: writePicked(rows) } })
}

const { loaded, data, reload } = useLoaded(
  () => `${key.value} ${writePicked(rowsWanted.value)} ${roster.loaded}`,
  news,
  async () => {
    const labels = [...new Set(rowsWanted.value.map((row) => row.instance))]
    const known = labels.flatMap((label) => roster.byLabel.get(label) ?? [])
    const courses = (one: (typeof known)[number], cell_seconds?: number) =>
      answer(
        api.GET('/api/v1/instances/{instance_id}/courses', {
          params: {
            path: { instance_id: one.instance_id },
            query: {
              ...asQuery(window.value),
              figure: [
                ...new Set(
                  rowsWanted.value.filter((row) => row.instance === one.label).map((row) => row.figure),
                ),
              ].join(','),
              cell_seconds,
            },
          },
        }),
      )
    const first = await Promise.all(known.map((one) => courses(one)))
    // One axis: what is read more often on one instance is told in the cells of the others.
    const widest = Math.max(0, ...first.map((one) => one.cell_seconds))
    const told = await Promise.all(
      first.map((one, at) => (one.cell_seconds === widest ? one : courses(known[at]!, widest))),
    )
    return known.map((one, at) => ({ label: one.label, courses: told[at]! }))
  },
)
const axis = computed(() => data.value?.[0]?.courses ?? null)
const starts = computed(() => (axis.value?.starts ?? []).map((start) => new Date(start)))
const place = computed(() => new Map((axis.value?.starts ?? []).map((start, at) => [start, at])))

/** The values of a figure in the cells of the axis. */
function onAxis(courses: Schemas['Courses'], course: Schemas['Course']): Schemas['Course'] {
  const at = courses.starts.map((start) => place.value.get(start))
  const placed = <T,>(values: readonly T[], none: T): T[] => {
    const cells = starts.value.map(() => none)
    values.forEach((value, from) => {
      const to = at[from]
      if (to !== undefined) cells[to] = value
    })
    return cells
  }
  if (courses === axis.value) return course
  const [low, high] = course.low.length ? [placed(course.low, 0), placed(course.high, 0)] : [[], []]
  return {
    ...course,
    values: placed(
      course.values.map((value) => value ?? null),
      null,
    ),
    low,
    high,
  }
}
const rows = computed(() =>
  rowsWanted.value.map((row): StripRow => {
    const courses = data.value?.find(({ label }) => label === row.instance)?.courses
    const of = courses?.courses.find((one) => one.figure === row.figure && one.object === row.object)
    const key = writePicked([row]) ?? ''
    if (of && courses) return courseRow(onAxis(courses, of), `${row.instance}: ${courseName(of)}`, key)
    const why = roster.byLabel.has(row.instance) ? 'nothing was read' : 'there is no such instance'
    return {
      key,
      label: `${row.instance}: ${`${row.figure.replaceAll('_', ' ')} ${row.object}`.trim()}, ${why}`,
      values: starts.value.map(() => null),
      ink: '',
      figures: ['–', '–', '–'],
      full: 1,
      press: 'choose',
      write: String,
    }
  }),
)
/** Instances of the board that are not there. */
const unknown = computed(() =>
  [...new Set(rowsWanted.value.map((row) => row.instance))].filter((label) => !roster.byLabel.has(label)),
)
/** The row whose place is changed. */
const chosen = ref('')
const chosenRow = computed(() => parsePicked(chosen.value)[0])
const chosenAt = computed(() =>
  rowsWanted.value.findIndex((row) => chosenRow.value && same(row, chosenRow.value)),
)
function move(by: number): void {
  const next = [...rowsWanted.value]
  const [from, to] = [chosenAt.value, chosenAt.value + by]
  if (from < 0 || to < 0 || to >= next.length) return
  ;[next[from], next[to]] = [next[to]!, next[from]!]
  put(next)
}
function remove(): void {
  put(rowsWanted.value.filter((_, at) => at !== chosenAt.value))
  chosen.value = ''
}

const adding = reactive<Picked>({ instance: instance.value?.label ?? '', figure: 'load', object: '' })
const { loaded: figures } = useLoaded(
  () => 0,
  () => 0,
  () => answer(api.GET('/api/v1/figures')),
)
const choices = computed(() =>
  figures.value.state === 'ready'
    ? figures.value.data.map(({ figure, title }) => ({ value: figure, label: title }))
    : [],
)
/** Objects of the figure chosen that were seen in the window. */
const { loaded: objects } = useLoaded(
  () => `${adding.instance} ${adding.figure}`,
  () => 0,
  async () => {
    const of = roster.byLabel.get(adding.instance)
    if (!of) return []
    const { courses } = await answer(
      api.GET('/api/v1/instances/{instance_id}/courses', {
        params: {
          path: { instance_id: of.instance_id },
          query: {
            ...asQuery(window.value),
            figure: adding.figure,
          },
        },
      }),
    )
    return courses.map(({ object }) => object)
  },
)
const known = computed(() => (objects.value.state === 'ready' ? objects.value.data : []))
watch(known, ([first]) => {
  if (!known.value.includes(adding.object)) adding.object = first ?? ''
})
const isThere = computed(() => rowsWanted.value.some((row) => same(row, adding)))
const add = () => put([...rowsWanted.value, { ...adding }])

const name = ref('')
const boards = computed(() => session.preferences.boards)
const open = (board: Schemas['Board']) => {
  name.value = board.name
  put(board.figures)
}
function save(): void {
  const others = boards.value.filter((board) => board.name !== name.value.trim())
  void session.prefer({ boards: [...others, { name: name.value.trim(), figures: rowsWanted.value }] })
}
function forget(board: Schemas['Board']): void {
  void session.prefer({ boards: boards.value.filter((other) => other.name !== board.name) })
}
</script>

<template>
  <div class="page-head">
    <h1>Board</h1>
    <span class="muted"
      >Figures of any instances on one axis, {{ between(window) }}; its address can be sent</span
    >
  </div>
  <div v-if="boards.length" class="boards" role="group" aria-label="Boards that were saved">
    <span v-for="board in boards" :key="board.name" class="saved">
      <button type="button" @click="open(board)">
        {{ board.name }} <span class="muted">{{ counted(board.figures.length, 'figure') }}</span>
      </button>
      <ConfirmButton
        :lost="`The board ${board.name} is deleted; the figures themselves stay.`"
        action="Delete"
        @confirm="forget(board)"
      />
    </span>
  </div>
  <p v-if="session.notKept" role="alert">The board is not kept: {{ session.notKept }}</p>
  <PageState v-if="rowsWanted.length" :loaded="loaded" @retry="reload" />
  <div class="sheet" data-test="board">
    <p v-if="rowsWanted.length === 0" class="muted">
      Nothing stands on this board yet. Add a figure below, or choose some on
      <RouterLink :to="{ name: 'resources', query: $route.query }">Resources</RouterLink>.
    </p>
    <StripStack
      v-else-if="axis"
      :starts="starts"
      :cell-seconds="axis.cell_seconds"
      :rows="rows"
      :figure-heads="['mean', 'least', 'most']"
      :chosen="null"
      :markers="history.markers"
      :label-width="300"
      :figures-of="`${between(window)}, ${source(axis.detail)}`"
      read-only
      @press="(pressed) => (chosen = chosen === pressed ? '' : pressed)"
    />
    <p v-else-if="data" class="muted" role="status">
      None of these instances is watched: {{ unknown.join(', ') }}. Remove their figures, or add others below.
    </p>
    <p v-if="axis && rowsWanted.length" class="muted foot">
      Each strip has a scale of its own. One cell is {{ seconds(axis.cell_seconds) }}. Hatched: not read.
      Markers are those of {{ instance?.label }}.
    </p>
    <div v-if="chosenRow && chosenAt >= 0" class="line">
      <b class="one-line">{{ rows[chosenAt]?.label }}</b>
      <Button size="small" :disabled="chosenAt === 0" @click="move(-1)">Move up</Button>
      <Button size="small" :disabled="chosenAt === rowsWanted.length - 1" @click="move(1)">Move down</Button>
      <Button size="small" @click="remove">Remove</Button>
    </div>
  </div>
  <form class="sheet line no-print" @submit.prevent="add">
    <label for="b-instance">Instance</label>
    <Select
      id="b-instance"
      :value="adding.instance"
      class="choice"
      show-search
      :options="roster.instances.map(({ label }) => ({ value: label }))"
      @change="(value) => (adding.instance = String(value))"
    />
    <label for="b-figure">Figure</label>
    <Select
      id="b-figure"
      :value="adding.figure"
      class="choice wide"
      show-search
      option-filter-prop="label"
      :options="choices"
      @change="(value) => (adding.figure = String(value))"
    />
    <label for="b-object">Object</label>
    <AutoComplete
      id="b-object"
      class="choice"
      :value="adding.object"
      :options="known.map((value) => ({ value, label: value || 'the server as a whole' }))"
      placeholder="the server as a whole"
      @change="(value) => (adding.object = String(value ?? ''))"
    />
    <Button html-type="submit" :disabled="isThere || rowsWanted.length >= MOST || !adding.instance"
      >Add</Button
    >
    <span v-if="isThere" class="muted">It stands on the board.</span>
    <span class="save">
      <label for="b-name">Name</label>
      <input id="b-name" v-model="name" maxlength="200" />
      <Button type="primary" :disabled="!name.trim() || rowsWanted.length === 0" @click="save">Save</Button>
    </span>
  </form>
</template>

<style scoped>
.boards {
  display: flex;
  flex-wrap: wrap;
  gap: 12px;
  margin-bottom: 8px;
}
.saved {
  display: inline-flex;
  gap: 4px;
  align-items: center;
}
.saved > button {
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: inherit;
  font: inherit;
  min-height: 26px;
  padding: 0 8px;
  cursor: pointer;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.choice {
  width: 160px;
}
.choice.wide {
  width: 230px;
}
.save {
  margin-left: auto;
  display: inline-flex;
  gap: 8px;
  align-items: center;
}
.save input {
  font: inherit;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--rule);
  min-height: 30px;
  padding: 0 6px;
  width: 150px;
}
.foot {
  font-size: 12.5px;
  margin: 2px 0 0;
}
</style>
