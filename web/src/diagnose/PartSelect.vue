<script setup lang="ts">
import { ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { asQuery } from '../composables/useWindow'

/** What a list is narrowed to by one account, program or database: those that were busy in the window. */
const props = defineProps<{
  instanceId: number
  span: { from: Date; to: Date }
  by: Schemas['Dimension']
  /** What one of them is called. */
  one: string
  chosen: string | undefined
}>()
const emit = defineEmits<{ choose: [name: string | undefined] }>()
const MOST = 40
const names = ref<string[]>([])
const { problem, run } = useAction()
/** Asked for when somebody is about to choose: few do, and it costs a look at all of the window. */
async function list(): Promise<void> {
  await run('list', async () => {
    const parts = await answer(
      api.GET('/api/v1/instances/{instance_id}/load/breakdown', {
        params: {
          path: { instance_id: props.instanceId },
          query: { ...asQuery(props.span), by: props.by, most: MOST },
        },
      }),
    )
    names.value = parts.parts.map((part) => part.name).filter((name) => name !== '')
  })
}
const known = () => [...new Set([...(props.chosen ? [props.chosen] : []), ...names.value])]
</script>

<template>
  <select
    :value="chosen ?? ''"
    :aria-label="`Only of this ${one}`"
    :class="{ on: chosen }"
    @focus="list"
    @mousedown="list"
    @change="(event) => emit('choose', (event.target as HTMLSelectElement).value || undefined)"
  >
    <option value="">any {{ one }}</option>
    <option v-if="problem" disabled>{{ problem.detail }}</option>
    <option v-for="name in known()" :key="name" :value="name">{{ name }}</option>
  </select>
</template>

<style scoped>
select {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 4px;
  max-width: 150px;
}
.on {
  border-color: var(--plum);
  font-weight: 600;
}
</style>
