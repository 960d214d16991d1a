<script setup lang="ts">
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useColumn } from '../composables/useColumn'
import { useInstance } from '../composables/useInstance'
import { between, counted } from '../format'
import PageState from '../ui/PageState.vue'
import CourseStack from './CourseStack.vue'
import { parsePicked, resourceRows, same, writePicked } from './courseRows'
import { useCourses } from './useCourses'
import WhatMoved from './WhatMoved.vue'

/** What a server works with, figure by figure on one axis, and what left its usual range in a column of time. */
const { instance } = useInstance()
const { window, loaded, reload, data, starts } = useCourses()
const route = useRoute()
const router = useRouter()
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
      <CourseStack
        :data="data"
        :rows="rows"
        :window="window"
        :chosen="cells"
        @choose="chooseColumn"
        @press="press"
      />
    </div>
    <WhatMoved v-if="judged" :instance-id="instance?.instance_id ?? 0" :span="judged" />
    <p v-else class="muted">Choose a column of time to see what else moved then.</p>
  </template>
</template>

<style scoped>
.board {
  margin-left: auto;
}
</style>
