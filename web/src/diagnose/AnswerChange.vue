<script setup lang="ts">
import { Button, Input } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api, Failure, type Problem, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'

/** What somebody makes of a change: the new normal, no trouble, or followed until it is over. */
const props = defineProps<{ change: Schemas['Change'] }>()
const emit = defineEmits<{ answered: [] }>()
const { instance } = useInstance()
const session = useSession()
const mayWrite = computed(() => session.current?.role !== 'reader')
const ANSWERS: Record<Schemas['Answer'], string> = {
  accepted: 'Accepted as the new normal',
  dismissed: 'Dismissed',
  followed: 'Followed until it is over',
}
const given = computed(() => props.change.answer ?? null)
const reason = ref<string | null>(null)
const busy = ref(false)
const trouble = ref<Problem | null>(null)
const params = () => ({
  path: { instance_id: instance.value?.instance_id ?? 0, change_id: props.change.change_id },
})

async function send(what: () => Promise<unknown>): Promise<void> {
  busy.value = true
  trouble.value = null
  try {
    await what()
    reason.value = null
    emit('answered')
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    trouble.value = error.problem
  } finally {
    busy.value = false
  }
}
const give = (what: Schemas['Answer'], why?: string) =>
  send(() =>
    answer(
      api.PUT('/api/v1/instances/{instance_id}/changes/{change_id}/answer', {
        params: params(),
        body: { answer: what, reason: why },
      }),
    ),
  )
const takeBack = () =>
  send(() =>
    answer(api.DELETE('/api/v1/instances/{instance_id}/changes/{change_id}/answer', { params: params() })),
  )
</script>

<template>
  <div class="answer no-print" data-test="answer">
    <template v-if="given">
      <span>
        <b>{{ ANSWERS[given.answer] }}</b> by {{ given.answered_by }},
        {{ clock(given.answered_at, new Date())
        }}<template v-if="given.reason">: {{ given.reason }}</template>
      </span>
      <Button v-if="mayWrite" size="small" :disabled="busy" @click="takeBack">Undo</Button>
    </template>
    <form v-else-if="reason !== null" @submit.prevent="give('dismissed', reason)">
      <label>
        Why it is no trouble
        <Input v-model:value="reason" name="reason" size="small" :maxlength="500" />
      </label>
      <Button size="small" type="primary" html-type="submit" :disabled="busy || !reason.trim()"
        >Dismiss</Button
      >
      <Button size="small" @click="reason = null">Cancel</Button>
    </form>
    <template v-else-if="mayWrite">
      <Button size="small" :disabled="busy" title="It asks for attention no more" @click="give('accepted')"
        >Accept as normal</Button
      >
      <Button size="small" :disabled="busy" title="It asks for attention no more" @click="reason = ''"
        >Dismiss…</Button
      >
      <Button size="small" :disabled="busy" title="It stays on the first page" @click="give('followed')"
        >Follow</Button
      >
    </template>
    <ProblemNote v-if="trouble" :problem="trouble" @retry="trouble = null" />
  </div>
</template>

<style scoped>
.answer,
form {
  display: flex;
  gap: 8px;
  align-items: center;
  flex-wrap: wrap;
}
.answer {
  margin: 0 0 8px;
}
label {
  display: flex;
  gap: 6px;
  align-items: center;
}
input {
  width: 36ch;
}
</style>
