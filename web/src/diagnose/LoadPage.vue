<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useColumn } from '../composables/useColumn'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { useWindow } from '../composables/useWindow'
import { between, clock, counted, number, seconds, source } from '../format'
import { useHistory } from '../stores/history'
import PageState from '../ui/PageState.vue'
import { KINDS } from '../pictures/kinds'
import StripStack from '../pictures/StripStack.vue'
import FindingsNote from './FindingsNote.vue'
import LoadWaitLengths from './LoadWaitLengths.vue'
import {
  FEW,
  GROUPS,
  groupRows,
  keyOf,
  MORE,
  MOST,
  nameOf,
  parseChosen,
  toggle,
  writeChosen,
  type By,
  type Chosen,
} from './loadGroups'
import { figureOf, loadRows } from './loadRows'

/**
 * The load as one score: wait kinds on top, and below them, on the same time axis, what else it is looked at by. A
 * column of time and a row of each group narrow everything else to what happened there.
 */
const { instance } = useInstance()
const news = useNews('activity')
const { window, then, key } = useWindow(news)
const route = useRoute()
const router = useRouter()
const history = useHistory()
const id = computed(() => instance.value?.instance_id)

const chosen = computed(() => parseChosen(route.query.only))
/** Groups that are open; statements unless the address says otherwise. */
const open = computed(() => {
  const named = String(route.query.open ?? 'family').split(',')
  return GROUPS.filter(({ by }) => named.includes(by)).map(({ by }) => by)
})
/** How many parts of a group are shown. */
const shown = ref<Partial<Record<By, number>>>({})

const starts = computed(() => (data.value?.load.cells ?? []).map((cell) => new Date(cell.at)))
const {
  span,
  cells,
  choose: chooseColumn,
} = useColumn(
  () => starts.value,
  () => data.value?.load.cell_seconds ?? 1,
)
const iso = (at: Date) => at.toISOString()
const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${key.value}`,
  [
    news,
    () =>
      [
        route.query.only,
        route.query.open,
        route.query.cell,
        route.query.then,
        JSON.stringify(shown.value),
      ].join(' '),
  ],
  async () => {
    const path = { instance_id: id.value ?? 0 }
    const query = { from: iso(window.value.from), to: iso(window.value.to) }
    const within = span.value ? { within_from: iso(span.value.from), within_to: iso(span.value.to) } : {}
    const parts = async (by: By) => {
      const only = writeChosen(chosen.value.filter((one) => one.by !== by))
      const most = shown.value[by] ?? FEW
      const asked = { path, query: { ...query, ...within, by, only, most } }
      return [
        by,
        await answer(api.GET('/api/v1/instances/{instance_id}/load/breakdown', { params: asked })),
      ] as const
    }
    const only = writeChosen(chosen.value)
    const of = (span: { from: string; to: string }) =>
      answer(api.GET('/api/v1/instances/{instance_id}/load', { params: { path, query: { ...span, only } } }))
    const compared = then.value && { from: iso(then.value.from), to: iso(then.value.to) }
    const [load, before, ...groups] = await Promise.all([
      of(query),
      compared && of(compared),
      ...open.value.map(parts),
    ])
    return { load, before, groups: new Map(groups) }
  },
)
/** What is usual of the load and each wait kind; of the whole server only, so not where the page is narrowed to a part. */
const { loaded: usual } = useLoaded(
  () => `${id.value} ${key.value} ${chosen.value.length} ${data.value?.load.cell_seconds}`,
  data,
  async () => {
    const load = data.value?.load
    if (!load || chosen.value.length) return null
    const query = {
      from: load.span.from,
      to: load.span.to,
      cell_seconds: load.cell_seconds,
      figure: ['total', ...KINDS.map((kind) => kind.key)].map(figureOf).join(','),
    }
    const path = { instance_id: id.value ?? 0 }
    return answer(api.GET('/api/v1/instances/{instance_id}/usual-ranges', { params: { path, query } }))
  },
)
const ranges = computed(() => (usual.value.state === 'ready' ? usual.value.data : null))
const learnt = computed(() => {
  const days = ranges.value?.find(({ figure }) => figure === 'load')?.days
  if (days)
    return `Shaded: usual range for the hour of the week, learnt from ${counted(Math.round(days), 'day')}.`
  return ranges.value && 'There is no usual range yet: it is learnt once a day of figures is there.'
})
const rows = computed(() => {
  const known = data.value
  if (!known) return []
  const { load, before, groups } = known
  // What a chosen part consists of is what everything is narrowed to, while nothing else is chosen.
  const kinds = chosen.value.length === 1 ? load.cells.map((cell) => cell.load.kinds) : undefined
  return [
    ...loadRows(load.cells, load.whole, true, before?.whole, load.cpus).map((row) => ({
      ...row,
      usual: ranges.value?.find(({ figure }) => figure === figureOf(row.key))?.cells,
    })),
    ...GROUPS.flatMap(({ by }) =>
      groupRows(by, groups.get(by) ?? null, chosen.value, kinds, before !== null),
    ),
  ]
})

/** Window and source of the figures. */
const figuresOf = computed(
  () => `${between(window.value)}, sampled sessions, ${source(data.value?.load.detail ?? '')}`,
)
const empty = computed(() =>
  data.value?.load.whole.samples === 0 ? 'Nothing was observed in this window.' : undefined,
)
const next = computed(() => {
  const last = instance.value?.last_success_at
  return last
    ? `Figures last arrived at ${clock(last, new Date())}: choose a window that holds that moment.`
    : 'The first figures arrive seconds after the connection is made.'
})
/** Columns of the window that nobody looked at; the one that is still filling does not count. */
const partial = computed(() => {
  const cells = data.value?.load.cells ?? []
  const unseen = cells.slice(0, -1).filter((cell) => cell.load.total == null).length
  return unseen > 0 ? `${unseen} of ${cells.length} columns were not observed; they are hatched.` : undefined
})

function go(change: Record<string, string | undefined>): void {
  void router.replace({ query: { ...route.query, ...change } })
}
function choose(one: Chosen, besides: boolean): void {
  go({ only: writeChosen(toggle(chosen.value, one, besides)) })
}
function press(pressed: string, besides: boolean): void {
  const [does, by] = pressed.split(' ') as [string, By | undefined]
  if (does === 'fold' && by) {
    const others = open.value.filter((one) => one !== by)
    go({ open: (open.value.includes(by) ? others : [...open.value, by]).join(',') })
  } else if (does === 'more' && by) {
    shown.value = { ...shown.value, [by]: Math.min((shown.value[by] ?? FEW) + MORE, MOST) }
  } else choose(parseChosen(pressed)[0]!, besides)
}
const chips = computed(() =>
  chosen.value.map((one) => {
    const part = data.value?.groups.get(one.by)?.parts.find((part) => (part.part ?? '') === one.part)
    const group = GROUPS.find(({ by }) => by === one.by)!
    const name = part || !one.part ? nameOf(one.by, part?.name ?? '', one.part) : `no. ${one.part}`
    return { one, says: `${group.one} ${name}`, family: one.by === 'family' ? one.part : '' }
  }),
)
</script>

<template>
  <div class="page-head">
    <h1>Load</h1>
    <span class="muted">Busy sessions by what they wait for</span>
    <span v-if="span" class="chip">
      {{ between(span) }}
      <button type="button" aria-label="Clear the chosen column of time" @click="chooseColumn(null)">
        ✕
      </button>
    </span>
    <span v-for="chip in chips" :key="keyOf(chip.one)" class="chip row-chip">
      <span class="one-line" :title="chip.says">{{ chip.says }}</span>
      <RouterLink
        v-if="chip.family"
        :to="{
          name: 'family',
          params: { family: chip.family },
          query: { from: route.query.from, to: route.query.to, last: route.query.last },
        }"
        >open</RouterLink
      >
      <button type="button" :aria-label="`Clear ${chip.says}`" @click="choose(chip.one, true)">✕</button>
    </span>
  </div>
  <FindingsNote />
  <PageState :loaded="loaded" :partial="partial" :empty="empty" :next="next" @retry="reload" />
  <div v-if="data && !empty" class="sheet" data-test="score">
    <StripStack
      :starts="starts"
      :cell-seconds="data.load.cell_seconds"
      :rows="rows"
      :figure-heads="data.before ? ['mean', 'peak', 'then'] : ['mean', 'peak']"
      :chosen="cells"
      :markers="history.markers"
      :label-width="290"
      :figures-of="figuresOf"
      @choose="chooseColumn"
      @press="press"
    />
    <p class="muted foot">
      Sessions. Mean over {{ number(data.load.whole.samples) }} samples ±
      {{ number(data.load.whole.standard_error) }} (standard error); one cell is
      {{ seconds(data.load.cell_seconds) }}, the peak is that of a cell; {{ source(data.load.detail) }}.
      Hatched: not observed. Means and shares of groups are of
      {{ span ? 'the column chosen' : 'the whole window' }}; strips of a group share one scale. Ctrl and a
      click choose a row besides others.
      {{ learnt }}
      <template v-if="then && data.before">
        Then is the mean of {{ between(then) }} over {{ number(data.before.whole.samples) }} samples ±
        {{ number(data.before.whole.standard_error) }}.
      </template>
    </p>
  </div>
  <LoadWaitLengths v-if="data && !empty && id" :instance-id="id" :span="span ?? window" :only="chosen" />
</template>

<style scoped>
.foot {
  font-size: 12.5px;
  margin: 2px 0 0;
}
.row-chip {
  max-width: 420px;
}
</style>
