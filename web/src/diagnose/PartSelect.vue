<script setup lang="ts">
import { computed, ref } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { asQuery } from '../composables/useWindow'
import ChoiceSelect from '../ui/ChoiceSelect.vue'

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
const options = computed(() => {
  const known = [...new Set([...(props.chosen ? [props.chosen] : []), ...names.value])]
  return [
    { value: undefined, label: `any ${props.one}` },
    ...(problem.value ? [{ value: '', label: problem.value.detail, disabled: true }] : []),
    ...known.map((value) => ({ value, label: value })),
  ]
})
</script>

<template>
  <ChoiceSelect
    :model-value="chosen"
    :options="options"
    :name="`Only of this ${one}`"
    class="part"
    :class="{ on: chosen }"
    @begin="list"
    @update:model-value="(name) => emit('choose', name)"
  />
</template>

<style scoped>
.part {
  max-width: 150px;
}
.on {
  border-color: var(--plum);
  font-weight: 600;
}
</style>
