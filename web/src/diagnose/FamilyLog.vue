<script setup lang="ts">
import { useRoute } from 'vue-router'
import { answer, api } from '../api/client'
import { clock, counted } from '../format'
import PageState from '../ui/PageState.vue'
import LogEntry from './LogEntry.vue'
import { logTitle } from './logRows'
import { useWindowPart, type FamilyPart } from './windowPart'

/** The newest log lines that a family caused in a window. */
const props = defineProps<FamilyPart>()
const SHOWN = 5
const route = useRoute()
const { loaded, data, reload } = useWindowPart(
  props,
  ({ path, query }) =>
    answer(
      api.GET('/api/v1/instances/{instance_id}/log', {
        params: { path, query: { ...query, family_id: Number(props.family), page_size: SHOWN } },
      }),
    ),
  () => [props.family],
)
</script>

<template>
  <PageState v-if="!data" :loaded="loaded" @retry="reload" />
  <p v-else-if="data.entries.length === 0" class="muted">No log line of this window names it.</p>
  <template v-else>
    <ul class="lines" data-test="family-log">
      <li v-for="(entry, at) in data.entries" :key="`${entry.at} ${at}`">
        <span class="muted">{{ clock(entry.at, new Date()) }} · {{ logTitle(entry.kind) }}</span>
        <LogEntry :entry="entry" />
      </li>
    </ul>
    <p v-if="data.matching > SHOWN">
      <RouterLink
        :to="{
          name: 'log',
          query: { family, from: route.query.from, to: route.query.to, last: route.query.last },
        }"
        >All {{ counted(data.matching, 'line') }}</RouterLink
      >
    </p>
  </template>
</template>

<style scoped>
.lines {
  list-style: none;
  margin: 0;
  padding: 0;
}
.lines li {
  padding: 3px 0;
  border-top: 1px solid var(--rule);
}
</style>
