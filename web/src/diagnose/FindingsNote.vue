<script setup lang="ts">
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { clock, counted, milliseconds, timesAs } from '../format'
import { savedTime } from '../tune/verdicts'
import StatementLink from '../ui/StatementLink.vue'

/** What a tired reader should see first: slowdowns that hold, and what would mend them. */
const { instance } = useInstance()
const news = useNews('findings')
const id = computed(() => instance.value?.instance_id)
const { loaded } = useLoaded(id, news, async () => {
  if (id.value === undefined) return null
  const path = { instance_id: id.value }
  const [changes, book] = await Promise.all([
    answer(api.GET('/api/v1/instances/{instance_id}/changes', { params: { path } })),
    answer(
      api.GET('/api/v1/instances/{instance_id}/advice', {
        params: { path, query: { state: 'open', page_size: 3 } },
      }),
    ),
  ])
  const lost = (change: (typeof changes)[number]) => change.change.from_time_per_call
  const open = changes.filter(({ change }) => change.asks)
  const ofTime = open.filter(({ change }) => change.measured === 'time_per_call')
  const slower = ofTime.filter(({ change }) => change.ratio.value > 1)
  slower.sort((a, b) => lost(b) - lost(a))
  // Of one statement, the costliest says what there is to say.
  const first = slower.filter(
    (one, place) => slower.findIndex((other) => other.family_id === one.family_id) === place,
  )
  return { slower: first.slice(0, 3), more: open.length - Math.min(first.length, 3), book }
})
const findings = computed(() => (loaded.value.state === 'ready' ? loaded.value.data : null))
</script>

<template>
  <ul
    v-if="findings && (findings.slower.length || findings.book.advice.length || findings.more)"
    class="sheet findings"
  >
    <li v-for="{ family_id, text, change } in findings.slower" :key="family_id ?? 'whole'">
      <svg width="12" height="12" viewBox="0 0 14 14" aria-hidden="true">
        <path d="M7 .8L13.2 7L7 13.2L.8 7Z" fill="currentColor" />
      </svg>
      <template v-if="family_id">
        <span>
          <b>Slower since {{ clock(change.onset, new Date()) }}:</b>
          {{ timesAs(change.ratio.value) }} per call ({{ milliseconds(change.before.typical) }} →
          {{ milliseconds(change.after.typical) }})
        </span>
        <StatementLink :family="family_id" :text="text" />
      </template>
      <span v-else class="whole" data-test="whole-server">
        <b>The whole server is slower since {{ clock(change.onset, new Date()) }}:</b>
        nearly all statements take {{ timesAs(change.ratio.value) }} per call, and none of them by itself. See
        what changed on the host: its load, its storage, a setting.
      </span>
    </li>
    <li v-for="advice in findings.book.advice" :key="advice.advice_id">
      <svg width="12" height="12" viewBox="0 0 14 14" aria-hidden="true">
        <path d="M7 1.5L12.5 7L7 12.5L1.5 7Z" fill="none" stroke="currentColor" stroke-width="1.6" />
      </svg>
      <span>
        <b>Recommendation:</b> an index would save about {{ savedTime(advice.predicted_seconds_per_day) }}
      </span>
      <RouterLink
        class="mono one-line"
        :to="{ name: 'advice', params: { advice: advice.advice_id }, query: $route.query }"
        >{{ advice.subject }}</RouterLink
      >
    </li>
    <li v-if="findings.more > 0" class="muted">
      <RouterLink :to="{ name: 'changes' }">{{ counted(findings.more, 'more lasting change') }}</RouterLink>
    </li>
  </ul>
</template>

<style scoped>
.findings {
  list-style: none;
  margin: 0 0 10px;
  padding: 7px 12px;
  border-left: 4px solid var(--plum);
  display: grid;
  gap: 3px;
}
li {
  display: flex;
  gap: 9px;
  align-items: baseline;
  min-width: 0;
}
li span:not(.whole) {
  white-space: nowrap;
}
svg {
  color: var(--plum);
  flex: none;
}
a {
  min-width: 0;
  min-height: 24px;
}
</style>
