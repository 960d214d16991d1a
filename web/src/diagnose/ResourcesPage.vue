<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useColumn } from '../composables/useColumn'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { asQuery, useWindow } from '../composables/useWindow'
import { between, counted, seconds, source } from '../format'
import StripStack from '../pictures/StripStack.vue'
import { useHistory } from '../stores/history'
import PageState from '../ui/PageState.vue'
import { parsePicked, resourceRows, same, writePicked } from './courseRows'
import WhatMoved from './WhatMoved.vue'

/** What a server works with, figure by figure on one axis, and what left its usual range in a column of time. */
const { instance } = useInstance()
const news = useNews('figures')
const { window, key } = useWindow(news)
const route = useRoute()
const router = useRouter()
const history = useHistory()
const id = computed(() => instance.value?.instance_id ?? 0)
const { loaded, reload } = useLoaded(
  () => `${id.value} ${key.value}`,
  news,
  () =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/courses', {
        params: {
          path: { instance_id: id.value },
          query: asQuery(window.value),
        },
      }),
    ),
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))
const starts = computed(() => (data.value?.starts ?? []).map((start) => new Date(start)))
const {
  span,
  cells,
  choose: chooseColumn,
} = useColumn(
  () => starts.value,
  () => data.value?.cell_seconds ?? 1,
)
const folded = computed(() =>
  String(route.query.folded ?? '')
    .split(',')
    .filter(Boolean),
)
/** Figures that are to stand on a board. */
const picked = computed(() => parsePicked(route.query.pick))
const rows = computed(() =>
  data.value && instance.value
    ? resourceRows(data.value, folded.value, instance.value.label, picked.value)
    : [],
)
function press(pressed: string): void {
  const [does, resource] = pressed.split(' ')
  if (does === 'fold' && resource) {
    const others = folded.value.filter((one) => one !== resource)
    const next = folded.value.includes(resource) ? others : [...folded.value, resource]
    void router.replace({ query: { ...route.query, folded: next.join(',') || undefined } })
    return
  }
  const [one] = parsePicked(pressed)
  if (!one) return
  const others = picked.value.filter((other) => !same(other, one))
  const next = others.length < picked.value.length ? others : [...picked.value, one]
  void router.replace({ query: { ...route.query, pick: writePicked(next) } })
}
const learnt = computed(() => {
  const days = data.value?.courses.map((course) => course.days ?? 0) ?? []
  const most = Math.max(0, ...days)
  return most
    ? `Shaded: usual range for the hour of the week, learnt from up to ${counted(Math.round(most), 'day')}.`
    : 'There is no usual range yet: it is learnt once a day of figures is there.'
})
/** What moved is told of the column chosen, or of the whole window where it is short enough to be one event. */
const MOST_HOURS = 26
const judged = computed(() => {
  if (span.value) return span.value
  const { from, to } = window.value
  return +to - +from <= MOST_HOURS * 3_600_000 ? { from, to } : null
})
const windowQuery = computed(() => ({ from: route.query.from, to: route.query.to, last: route.query.last }))
</script>

<template>
  <div class="page-head">
    <h1>Resources</h1>
    <span class="muted">{{ between(window) }}</span>
    <span v-if="span" class="chip">
      {{ between(span) }}
      <button type="button" aria-label="Clear the chosen column of time" @click="chooseColumn(null)">
        ✕
      </button>
    </span>
    <RouterLink
      v-if="picked.length"
      class="board"
      :to="{ name: 'board', query: { ...windowQuery, rows: writePicked(picked) } }"
      >Open {{ counted(picked.length, 'figure') }} as a board</RouterLink
    >
    <span v-else class="muted board">Choose figures by their names to put them on a board</span>
  </div>
  <PageState
    :loaded="loaded"
    :empty="data && data.courses.length === 0 ? 'Nothing was read in this window.' : undefined"
    next="Choose another window on the ruler, or see Collection for what this instance tells."
    @retry="reload"
  />
  <template v-if="data && data.courses.length">
    <div class="sheet" data-test="resources">
      <StripStack
        :starts="starts"
        :cell-seconds="data.cell_seconds"
        :rows="rows"
        :figure-heads="['mean', 'least', 'most']"
        :chosen="cells"
        :markers="history.markers"
        :label-width="250"
        :figures-of="`${between(window)}, ${source(data.detail)}`"
        @choose="chooseColumn"
        @press="press"
      />
      <p class="muted foot">
        Each strip has a scale of its own. One cell is {{ seconds(data.cell_seconds) }};
        {{ source(data.detail) }}. Hatched: not read. {{ learnt }}
      </p>
    </div>
    <WhatMoved v-if="judged" :instance-id="id" :span="judged" />
    <p v-else class="muted">Choose a column of time to see what else moved then.</p>
  </template>
</template>

<style scoped>
.board {
  margin-left: auto;
}
.foot {
  font-size: 12.5px;
  margin: 2px 0 0;
}
</style>
