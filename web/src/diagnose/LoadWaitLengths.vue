<script setup lang="ts">
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { asQuery } from '../composables/useWindow'
import { between, seconds } from '../format'
import PageState from '../ui/PageState.vue'
import { writeChosen, type Chosen } from './loadGroups'
import WaitLengths from './WaitLengths.vue'

/** How long sessions were seen waiting without a break, of what the load is narrowed to. */
const props = defineProps<{ instanceId: number; span: { from: Date; to: Date }; only: readonly Chosen[] }>()
/** Looks of longer windows are too many to be followed session by session. */
const LONGEST_HOURS = 6
const isShort = computed(() => +props.span.to - +props.span.from <= LONGEST_HOURS * 3_600_000)
const key = computed(() => `${props.instanceId} ${writeChosen(props.only) ?? ''} ${isShort.value}`)
const again = () => between(props.span)
const { loaded, data, reload } = useLoaded(key, again, async () =>
  isShort.value
    ? answer(
        api.GET('/api/v1/instances/{instance_id}/load/lengths', {
          params: {
            path: { instance_id: props.instanceId },
            query: { ...asQuery(props.span), only: writeChosen(props.only) },
          },
        }),
      )
    : null,
)
</script>

<template>
  <p v-if="!isShort" class="muted">
    Choose a column of time of up to {{ LONGEST_HOURS }} h to see how long sessions waited.
  </p>
  <PageState v-else-if="!data" :loaded="loaded" @retry="reload" />
  <section v-else class="sheet" data-test="load-lengths">
    <h2>How long sessions waited without a break</h2>
    <p v-if="data.looks === 0" class="muted">The looks of this window are kept as sums only.</p>
    <p v-else-if="data.lengths.length === 0" class="muted">Nobody was seen waiting.</p>
    <template v-else>
      <WaitLengths :lengths="data.lengths" />
      <p class="muted foot">
        A session that waits for the same event in the same statement at looks in a row counts as one wait.
        Looks come every {{ seconds(data.look_seconds) }}; what a session did between two of them is not
        known.
      </p>
    </template>
  </section>
</template>

<style scoped>
h2 {
  margin: 0 0 6px;
  font-size: 14px;
}
.foot {
  font-size: 12.5px;
  margin: 4px 0 0;
}
</style>
