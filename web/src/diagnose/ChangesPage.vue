<script setup lang="ts">
import { Segmented } from 'ant-design-vue'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import ReplicaNote from '../pictures/ReplicaNote.vue'
import PageState from '../ui/PageState.vue'
import ChangeTable from './ChangeTable.vue'

/** All lasting changes of an instance: of statements, waits, load and metrics. */
const FILTERS = [
  { value: 'open', label: 'Open' },
  { value: 'time', label: 'Time per call' },
  { value: 'server', label: 'Of the server' },
  { value: 'all', label: 'All' },
] as const
const { instance } = useInstance()
const news = useNews('findings')
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
const chosen = computed(() => FILTERS.find((filter) => filter.value === route.query.which)?.value ?? 'open')
const {
  loaded,
  data: all,
  reload,
} = useLoaded(id, news, () =>
  answer(api.GET('/api/v1/instances/{instance_id}/changes', { params: { path: { instance_id: id.value } } })),
)
const changes = computed(() =>
  (all.value ?? []).filter(({ family_id, change }) => {
    if (chosen.value === 'open') return change.asks
    if (chosen.value === 'time') return change.measured === 'time_per_call'
    return chosen.value === 'all' || family_id == null
  }),
)
const empty = computed(() => (all.value?.length === 0 ? 'Nothing has changed and stayed so.' : undefined))
function choose(value: unknown): void {
  void router.replace({ query: { ...route.query, which: value === 'open' ? undefined : String(value) } })
}
</script>

<template>
  <div class="page-head">
    <h1>Lasting changes</h1>
    <span class="muted">What changed and stayed so: statements, waits, load, metrics</span>
    <div class="filter" role="group" aria-label="Which changes">
      <Segmented :value="chosen" :options="[...FILTERS]" @change="choose" />
    </div>
  </div>
  <ReplicaNote />
  <PageState
    :loaded="loaded"
    :empty="empty"
    next="A change is told once it is large, sure, and matters to the instance: minutes after its onset at the earliest."
    @retry="reload"
  />
  <div v-if="all?.length" class="sheet">
    <ChangeTable v-if="changes.length" name="changes" :changes="changes" />
    <p v-else class="muted">None of {{ all.length }} changes is of this sort.</p>
  </div>
</template>
