<script setup lang="ts">
import { Button, Popconfirm } from 'ant-design-vue'

/** A button whose work cannot simply be undone: it says what is lost and asks first. */
defineProps<{
  /** What is lost, or what happens, as a sentence. */
  lost: string
  /** The verb on the button that does it. */
  action: string
  /** What the button itself says; the verb when left out. */
  label?: string
  primary?: boolean
  disabled?: boolean
  loading?: boolean
}>()
defineEmits<{ confirm: [] }>()
</script>

<template>
  <Popconfirm
    :title="lost"
    :ok-text="action"
    cancel-text="Cancel"
    :disabled="disabled"
    @confirm="$emit('confirm')"
  >
    <Button size="small" :type="primary ? 'primary' : 'default'" :disabled="disabled" :loading="loading">{{
      label ?? action
    }}</Button>
  </Popconfirm>
</template>
