<script setup lang="ts">
import { Button, Modal, Textarea } from 'ant-design-vue'
import { ref, shallowRef } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { counted } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import SqlText from '../pictures/SqlText.vue'

/** Says what will be lost, asks why, and only then does it, or proposes it where a second person must approve. */
const props = defineProps<{
  instanceId: number
  session: Schemas['SessionOnServer']
  kind: 'cancel_statement' | 'end_session'
}>()
const emit = defineEmits<{ close: []; done: [] }>()
const reason = ref('')
const preview = shallowRef<Schemas['ActionPreview'] | null>(null)
const outcome = shallowRef<Schemas['ActionFigures'] | null>(null)
const { busy, problem, fault, run } = useAction()
const path = { instance_id: props.instanceId }
const body = () => ({
  kind: props.kind,
  process: props.session.process,
  started_at: props.session.started_at,
  reason: reason.value,
})
void run('preview', async () => {
  preview.value = await answer(
    api.POST('/api/v1/instances/{instance_id}/actions/preview', { params: { path }, body: body() }),
  )
})
async function act(): Promise<void> {
  const went = await run('act', async () => {
    outcome.value = await answer(
      api.POST('/api/v1/instances/{instance_id}/actions', { params: { path }, body: body() }),
    )
  })
  if (went) emit('done')
}
</script>

<template>
  <Modal
    open
    :title="kind === 'end_session' ? 'End a session' : 'Cancel a statement'"
    :width="600"
    :footer="null"
    @cancel="emit('close')"
  >
    <ProblemNote v-if="problem && !fault('reason')" :problem="problem" />
    <template v-if="outcome">
      <p v-if="outcome.state === 'proposed'" role="status">
        Proposed. Another administrator approves or refuses it under
        <RouterLink :to="{ name: 'actions' }">Actions and approvals</RouterLink>.
      </p>
      <p v-else role="status">{{ outcome.outcome }}</p>
      <Button type="primary" @click="emit('close')">Close</Button>
    </template>
    <form v-else-if="preview" @submit.prevent="act">
      <p>
        <b>{{ preview.told }}</b>
        <template v-if="session.blocks > 0">{{
          ` ${counted(session.blocks, 'session')} that ${session.blocks === 1 ? 'waits' : 'wait'} behind it can go on.`
        }}</template>
      </p>
      <p class="muted">What is sent to the server:</p>
      <SqlText v-if="preview.statement" :text="preview.statement" name="what is sent to the server" />
      <label for="act-reason">Why? It is kept with the action.</label>
      <Textarea id="act-reason" v-model:value="reason" :rows="2" :maxlength="500" />
      <em>{{ fault('reason') }}</em>
      <p v-if="preview.waits" class="muted">A second administrator must approve it first.</p>
      <div class="buttons">
        <Button @click="emit('close')">Leave it</Button>
        <Button type="primary" html-type="submit" :loading="busy === 'act'">{{
          preview.waits ? 'Propose it' : kind === 'end_session' ? 'End the session' : 'Cancel the statement'
        }}</Button>
      </div>
    </form>
  </Modal>
</template>

<style scoped>
label {
  display: block;
  margin: 10px 0 4px;
}
em {
  color: var(--warn);
  font-style: normal;
}
.buttons {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 12px;
}
</style>
