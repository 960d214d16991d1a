<script setup lang="ts">
import { Button, Modal, Textarea } from 'ant-design-vue'
import { ref, shallowRef } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import ProblemNote from '../pictures/ProblemNote.vue'
import StatementText from '../ui/StatementText.vue'
import ActionRun from './ActionRun.vue'

/** Says what an action does and what is lost by it, asks why, and only then has it done, or proposes it where a second
 * person must approve. */
const props = defineProps<{ instanceId: number; asked: Omit<Schemas['ActionAsked'], 'reason'> }>()
const emit = defineEmits<{ close: []; done: [] }>()
const reason = ref('')
const preview = shallowRef<Schemas['ActionPreview'] | null>(null)
const begun = shallowRef<Schemas['ActionFigures'] | null>(null)
const { busy, problem, fault, run } = useAction()
const path = { instance_id: props.instanceId }
const body = () => ({ ...props.asked, reason: reason.value })
void run('preview', async () => {
  preview.value = await answer(
    api.POST('/api/v1/instances/{instance_id}/actions/preview', { params: { path }, body: body() }),
  )
})
async function act(): Promise<void> {
  const went = await run('act', async () => {
    begun.value = await answer(
      api.POST('/api/v1/instances/{instance_id}/actions', { params: { path }, body: body() }),
    )
  })
  if (went) emit('done')
}
</script>

<template>
  <Modal
    open
    :title="preview?.title ?? 'Apply an action'"
    :width="600"
    :footer="null"
    @cancel="emit('close')"
  >
    <ProblemNote v-if="problem && !fault('reason')" :problem="problem" />
    <template v-if="begun">
      <p v-if="begun.state === 'proposed'" role="status">
        Proposed. Another administrator approves or refuses it under
        <RouterLink :to="{ name: 'actions' }">Actions and approvals</RouterLink>.
      </p>
      <ActionRun v-else :action="begun" @ended="emit('done')" />
      <div class="buttons">
        <Button type="primary" @click="emit('close')">Close</Button>
      </div>
    </template>
    <form v-else-if="preview" @submit.prevent="act">
      <p>
        <b>{{ preview.told }}</b>
        {{ preview.undo ? `To undo it: ${preview.undo}` : 'It cannot be undone.' }}
      </p>
      <p><slot /></p>
      <p v-if="preview.may_take_long" class="muted">
        This may take long. Its progress is shown here and under Actions and approvals, where it can be
        stopped.
      </p>
      <p class="muted">Statement sent to the server:</p>
      <StatementText v-if="preview.statement" :text="preview.statement" name="what is sent to the server" />
      <label for="act-reason">Reason, kept in the audit trail</label>
      <Textarea id="act-reason" v-model:value="reason" :rows="2" :maxlength="500" />
      <em>{{ fault('reason') }}</em>
      <p v-if="preview.waits" class="muted">A second administrator must approve it first.</p>
      <div class="buttons">
        <Button @click="emit('close')">Cancel</Button>
        <Button type="primary" html-type="submit" :loading="busy === 'act'">{{
          preview.waits ? 'Propose' : preview.title
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
