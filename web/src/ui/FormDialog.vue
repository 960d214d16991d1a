<script setup lang="ts">
import { Button, Modal } from 'ant-design-vue'
import { computed, nextTick, ref, watch } from 'vue'
import type { Problem } from '../api/client'
import { useUnsaved } from './useUnsaved'

/**
 * A form in a dialog: fields in two columns, what is wrong with the whole below them, and a question before changes
 * are lost. Enter sends it.
 */
const props = defineProps<{
  open: boolean
  title: string
  /** What the form holds, to know whether it was changed since it opened. */
  values: unknown
  /** The verb of the button that sends it. */
  submit: string
  busy?: boolean
  disabled?: boolean
  /** What the server says; what it says of fields stands beside those. */
  problem?: Problem | null
  /** The problem is told in whole here although it names fields. */
  wholeProblem?: boolean
  width?: number
}>()
const emit = defineEmits<{ submit: []; close: [] }>()
const slots = defineSlots<{
  /** The fields. */
  default: () => unknown
  /** What stands below them. */
  below?: () => unknown
  /** Buttons before the two that every form has. */
  buttons?: () => unknown
}>()
const written = computed(() => JSON.stringify(props.values))
const atFirst = ref(written.value)
watch(
  () => props.open,
  // What a page puts in when it opens the form is no change by anybody.
  (open) => open && queueMicrotask(() => (atFirst.value = written.value)),
)
const { mayLeave } = useUnsaved(() => props.open && written.value !== atFirst.value)
async function close(): Promise<void> {
  if (await mayLeave()) emit('close')
}
/** A long form may be scrolled away from what is wrong with it. */
const note = ref<HTMLElement | null>(null)
watch(
  () => props.problem,
  async () => {
    await nextTick()
    note.value?.scrollIntoView?.({ block: 'nearest' })
  },
)
const told = computed(() => {
  const problem = props.problem
  if (!problem) return ''
  return problem.errors?.length && !props.wholeProblem ? '' : problem.detail
})
</script>

<template>
  <Modal :open="open" :title="title" :width="width ?? 520" @cancel="close">
    <form class="fields" @submit.prevent="emit('submit')">
      <slot />
      <!-- Enter in a field sends the form only where it has a button to send it. -->
      <button type="submit" hidden :disabled="disabled || busy" />
    </form>
    <div v-if="problem" ref="note" class="note trouble" role="alert" data-test="form-problem">
      <b>{{ problem.title }}.</b> {{ told }}
    </div>
    <slot name="below" />
    <template #footer>
      <slot v-if="slots.buttons" name="buttons" />
      <Button @click="close">Cancel</Button>
      <Button type="primary" :disabled="disabled" :loading="busy" @click="emit('submit')">{{
        submit
      }}</Button>
    </template>
  </Modal>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: 110px 1fr;
  gap: 10px;
  align-items: start;
}
.note {
  margin-top: 12px;
  padding: 8px 10px;
  border-left: 4px solid var(--warn);
  background: var(--sunk);
  white-space: pre-wrap;
}
</style>
