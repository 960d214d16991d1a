<script setup lang="ts">
import { AutoComplete, Button, Popover } from 'ant-design-vue'
import { computed, nextTick, ref, watch } from 'vue'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import type { Instance } from '../stores/roster'
import { useSession } from '../stores/session'

/** The group of an instance: accounts may be limited to groups. Administrators put it into another. */
const props = defineProps<{ instance: Instance; groups: string[] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const administrator = computed(() => session.current?.role === 'administrator')
const open = ref(false)
const wasOpened = ref(false)
async function begin(): Promise<void> {
  wasOpened.value = true
  await nextTick()
  open.value = true
}
const group = ref('')
watch(open, () => (group.value = props.instance.group ?? ''))
const { busy, problem, run } = useAction()

async function save(): Promise<void> {
  const path = { instance_id: props.instance.instance_id }
  const body = { group: group.value.trim() || null }
  const saved = await run('save', () =>
    answer(api.PUT('/api/v1/instances/{instance_id}/group', { params: { path }, body })),
  )
  if (!saved) return
  open.value = false
  emit('changed')
}
</script>

<template>
  <div v-if="!administrator" class="muted">{{ instance.group }}</div>
  <!-- Most are never opened, and a page has many. -->
  <button v-else-if="!wasOpened" type="button" class="group" @click="begin">
    {{ instance.group ?? 'no group' }}
  </button>
  <Popover v-else v-model:open="open" trigger="click" placement="bottomLeft">
    <template #content>
      <form class="form" @submit.prevent="save">
        <label :for="`group-${instance.instance_id}`">Group of {{ instance.label }}</label>
        <AutoComplete
          :id="`group-${instance.instance_id}`"
          :value="group"
          :options="groups.map((value) => ({ value }))"
          placeholder="none"
          @change="(value) => (group = String(value ?? ''))"
        />
        <p v-if="problem" role="alert">{{ problem.detail }}</p>
        <Button type="primary" html-type="submit" size="small" :loading="busy !== ''">Save</Button>
      </form>
    </template>
    <button type="button" class="group" :title="`Put ${instance.label} into a group`">
      {{ instance.group ?? 'no group' }}
    </button>
  </Popover>
</template>

<style scoped>
.form {
  display: grid;
  gap: 8px;
  width: 260px;
  justify-items: start;
}
.form > :nth-child(2) {
  width: 100%;
}
p {
  margin: 0;
  color: var(--warn);
}
.group {
  min-height: 24px;
  display: block;
  border: 0;
  padding: 0;
  background: none;
  font: inherit;
  font-size: 12.5px;
  color: var(--muted);
  cursor: pointer;
  text-decoration: underline dotted;
  text-underline-offset: 3px;
}
</style>
