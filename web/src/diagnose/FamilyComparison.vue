<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { between, source } from '../format'
import PageState from '../ui/PageState.vue'
import StripStack from '../pictures/StripStack.vue'
import { comparedRows } from './familyRows'
import { useWindowPart, type WindowPart } from './windowPart'

/** Chosen families side by side: for each measure the strips of all of them, on one scale. */
const props = defineProps<WindowPart & { families: readonly string[] }>()
defineEmits<{ close: [] }>()
/** More are too many to be read side by side. */
const MOST = 8
const chosen = computed(() => props.families.slice(0, MOST))
const { loaded, data, reload } = useWindowPart(
  props,
  ({ path, query }) =>
    Promise.all(
      chosen.value.map((family_id) =>
        answer(
          api.GET('/api/v1/instances/{instance_id}/statements/{family_id}', {
            params: { path: { ...path, family_id }, query },
          }),
        ),
      ),
    ),
  () => chosen.value,
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
