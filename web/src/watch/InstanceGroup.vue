<script setup lang="ts">
import { AutoComplete, Button, Popover } from 'ant-design-vue'
import { nextTick, onMounted, ref, watch } from 'vue'
import { answer, api } from '../api/client'
import { useAction } from '../composables/useAction'
import type { Instance } from '../stores/roster'

/** Puts an instance into another group: accounts may be limited to groups. */
const props = defineProps<{ instance: Instance; groups: string[] }>()
const emit = defineEmits<{ changed: [] }>()
const open = ref(false)
/** It is made when somebody asks for it. */
onMounted(async () => {
  await nextTick()
  open.value = true
})
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
  <Popover v-model:open="open" trigger="click" placement="bottomLeft">
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
    <button type="button" class="plain" :title="`Put ${instance.label} into a group`">
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
</style>
