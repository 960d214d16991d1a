<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { asQuery } from '../composables/useWindow'
import { between, source } from '../format'
import PageState from '../ui/PageState.vue'
import StripStack from '../pictures/StripStack.vue'
import { comparedRows } from './familyRows'

/** Chosen families side by side: for each measure the strips of all of them, on one scale. */
const props = defineProps<{
  instanceId: number
  span: { from: Date; to: Date }
  /** Stays the same while the span follows the clock. */
  spanKey: string
  families: readonly string[]
  /** Counts up whenever there are newer figures. */
  again: number
}>()
defineEmits<{ close: [] }>()
/** More are too many to be read side by side. */
const MOST = 8
const chosen = computed(() => props.families.slice(0, MOST))
const { loaded, data, reload } = useLoaded(
  () => `${props.instanceId} ${props.spanKey} ${chosen.value.join(' ')}`,
  () => props.again,
  () =>
    Promise.all(
      chosen.value.map((family_id) =>
        answer(
          api.GET('/api/v1/instances/{instance_id}/statements/{family_id}', {
            params: { path: { instance_id: props.instanceId, family_id }, query: asQuery(props.span) },
          }),
        ),
      ),
    ),
)
const first = computed(() => data.value?.[0])
const rows = computed(() => (data.value ? comparedRows(data.value) : []))
</script>

<template>
  <section class="sheet" data-test="comparison">
    <div class="head">
      <h2>Side by side</h2>
      <Button size="small" @click="$emit('close')">Close</Button>
    </div>
    <PageState :loaded="loaded" @retry="reload" />
    <StripStack
      v-if="first"
      :starts="first.cells.map((cell) => new Date(cell.at))"
      :cell-seconds="first.cell_seconds"
      :rows="rows"
      :figure-heads="['mean', 'peak']"
      :figures-of="`${between(span)}, ${source(first.coverage.detail)}`"
      :label-width="320"
      :chosen="null"
      :markers="[]"
      read-only
    />
    <p v-if="families.length > MOST" class="muted">
      {{ MOST }} of {{ families.length }} chosen statements are shown.
    </p>
  </section>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
}
</style>
