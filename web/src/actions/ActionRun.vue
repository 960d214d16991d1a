<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { shallowRef } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import ProblemNote from '../pictures/ProblemNote.vue'
import ProgressNote from '../ui/ProgressNote.vue'

/** How far an action is, with a way to stop it while it runs, and what came of it. */
const props = defineProps<{ action: Schemas['ActionFigures'] }>()
const emit = defineEmits<{ ended: [] }>()
const ASK_EVERY_MS = 1000
const now = shallowRef(props.action)
const params = { path: { action_id: props.action.action_id } }
const looking = useAction()
const stopping = useAction()
const { pause } = useIntervalFn(
  async () => {
    await looking.run('look', async () => {
      now.value = await answer(api.GET('/api/v1/actions/{action_id}', { params }))
    })
    if (now.value.state !== 'running') {
      pause()
      emit('ended')
    }
  },
  ASK_EVERY_MS,
  { immediate: props.action.state === 'running' },
)
const stop = () =>
  stopping.run('stop', async () => {
    now.value = await answer(api.POST('/api/v1/actions/{action_id}/stop', { params }))
  })
</script>

<template>
  <div role="status" data-test="action-run">
    <template v-if="now.state === 'running'">
      <ProgressNote
        :share="now.share"
        :phase="now.phase ?? 'Starting'"
        :begun-at="now.started_at ?? now.proposed_at"
        :stops="stopping.busy.value !== '' || now.stop_asked_by !== null ? 'asked' : 'can'"
        @stop="stop"
      />
    </template>
    <p v-else-if="now.state === 'lost'" class="warn">
      The result is not known: the Hurnix process that ran this action has ended. Check the server.
    </p>
    <p v-else :class="{ warn: now.state === 'failed' }">{{ now.outcome }}</p>
    <ProblemNote v-if="looking.problem.value" :problem="looking.problem.value" />
    <ProblemNote v-if="stopping.problem.value" :problem="stopping.problem.value" />
  </div>
</template>

<style scoped>
p {
  margin: 0;
}
.warn {
  color: var(--warn);
}
</style>
