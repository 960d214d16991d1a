<script setup lang="ts">
import { Button, Modal, Textarea } from 'ant-design-vue'
import { computed, ref, shallowRef } from 'vue'
import { answer, api, Failure, type Schemas } from '../api/client'
import { counted, seconds } from '../format'

/** Ends several sessions, one after the other: says which and what is lost, asks why once, and tells what came of each. */
const props = defineProps<{ instanceId: number; sessions: readonly Schemas['SessionOnServer'][] }>()
const emit = defineEmits<{ close: []; done: [] }>()
const reason = ref('')
const fault = ref('')
/** What came of each, in order; the next one is under way while there are fewer than sessions. */
const results = shallowRef<readonly { process: number; told: string; isGood: boolean }[]>([])
const state = ref<'asks' | 'runs' | 'stopped' | 'done'>('asks')
const params = { path: { instance_id: props.instanceId } }
const open = computed(() => props.sessions.filter((session) => session.transaction_started_at).length)
const failed = computed(() => results.value.filter((result) => !result.isGood))

async function end(session: Schemas['SessionOnServer']): Promise<{ told: string; isGood: boolean }> {
  const body = {
    kind: 'end_session' as const,
    process: session.process,
    started_at: session.started_at,
    reason: reason.value,
  }
  try {
    const action = await answer(api.POST('/api/v1/instances/{instance_id}/actions', { params, body }))
    const told = action.state === 'proposed' ? 'Proposed.' : (action.outcome ?? action.state)
    return { told, isGood: action.state !== 'failed' }
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    return { told: error.problem.detail, isGood: false }
  }
}
async function endAll(): Promise<void> {
  fault.value = reason.value.trim() ? '' : 'Say why: it is kept with each action.'
  if (fault.value) return
  state.value = 'runs'
  for (const session of props.sessions) {
    results.value = [...results.value, { process: session.process, ...(await end(session)) }]
    if (state.value !== 'runs') break
  }
  if (state.value === 'runs') state.value = 'done'
  emit('done')
}
const close = () => {
  if (state.value === 'runs') state.value = 'stopped'
  emit('close')
}
</script>

<template>
  <Modal
    open
    :title="`End ${counted(sessions.length, 'session')}`"
    :width="640"
    :footer="null"
    @cancel="close"
  >
    <p>
      <b
        >{{ counted(sessions.length, 'session') }} {{ sessions.length === 1 ? 'ends' : 'end' }}:
        {{ counted(open, 'open transaction') }} {{ open === 1 ? 'is' : 'are' }} rolled back, and
        {{ sessions.length === 1 ? 'its program is' : 'their programs are' }} cut off.</b
      >
      It cannot be undone.
    </p>
    <ul data-test="several">
      <li v-for="(session, at) in sessions" :key="`${session.process} ${session.started_at}`">
        <span>{{ session.process }}</span>
        <span class="one-line"
          >{{ session.account }} {{ session.program }} · transaction
          {{ seconds(session.transaction_seconds ?? null) }} ·
          <span class="mono">{{ session.statement }}</span></span
        >
        <span :class="{ warn: results[at] && !results[at].isGood }">{{ results[at]?.told }}</span>
      </li>
    </ul>
    <form v-if="state === 'asks'" @submit.prevent="endAll">
      <label for="several-reason">Reason, kept in the audit trail with each</label>
      <Textarea id="several-reason" v-model:value="reason" :rows="2" :maxlength="500" />
      <em role="alert">{{ fault }}</em>
      <div class="buttons">
        <Button @click="close">Cancel</Button>
        <Button type="primary" html-type="submit">End {{ counted(sessions.length, 'session') }}</Button>
      </div>
    </form>
    <template v-else>
      <p role="status">
        {{ results.length }} of {{ sessions.length }} asked for<template v-if="failed.length"
          >, {{ failed.length }} not ended</template
        ><template v-if="state === 'stopped'">; the others were left alone</template>.
      </p>
      <div class="buttons">
        <Button v-if="state === 'runs'" @click="state = 'stopped'">Stop</Button>
        <Button v-else type="primary" @click="close">Close</Button>
      </div>
    </template>
  </Modal>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
  max-height: 260px;
  overflow: auto;
  border: 1px solid var(--rule);
}
li {
  display: grid;
  grid-template-columns: 60px 1fr auto;
  gap: 8px;
  padding: 2px 8px;
  font-size: 13px;
}
label {
  display: block;
  margin: 10px 0 4px;
}
em,
.warn {
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
