<script setup lang="ts">
import { Button, Input, Popover } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import { useInstance } from '../composables/useInstance'
import { useSession } from '../stores/session'

/** Adds something that happened just now on the time axis: a release, a change elsewhere. */
const emit = defineEmits<{ noted: [] }>()
const { instance } = useInstance()
const session = useSession()
const allowed = computed(() => session.current !== null && session.current.role !== 'reader')
const open = ref(false)
const text = ref('')
const { busy, problem: refusal, fault, run } = useAction()
const problem = computed(() => fault.value('text') || (refusal.value?.detail ?? ''))

async function note(): Promise<void> {
  const id = instance.value?.instance_id
  if (id === undefined || busy.value) return
  const path = { instance_id: id }
  const noted = await run('note', () =>
    answer(
      api.POST('/api/v1/instances/{instance_id}/markers', { params: { path }, body: { text: text.value } }),
    ),
  )
  if (!noted) return
  text.value = ''
  open.value = false
  emit('noted')
}
</script>

<template>
  <Popover v-if="allowed && instance" v-model:open="open" trigger="click" placement="bottomRight">
    <template #content>
      <form class="note" @submit.prevent="note">
        <label for="marker-text">What has just happened on {{ instance.label }}?</label>
        <Input
          id="marker-text"
          v-model:value="text"
          name="marker"
          placeholder="release 12.4"
          :maxlength="200"
          :status="problem ? 'error' : ''"
        />
        <p v-if="problem" role="alert">{{ problem }}</p>
        <Button type="primary" html-type="submit" size="small" :loading="busy !== ''">Add</Button>
      </form>
    </template>
    <button type="button" class="open" title="Add a release or another change to the time axis">
      Add marker
    </button>
  </Popover>
</template>

<style scoped>
.note {
  display: grid;
  gap: 8px;
  width: 280px;
  justify-items: start;
}
p {
  margin: 0;
  color: var(--plum);
  font-size: 12.5px;
}
.open {
  font: inherit;
  font-size: 12px;
  border: 0;
  padding: 0;
  background: none;
  color: inherit;
  text-decoration: underline;
  cursor: pointer;
}
</style>
