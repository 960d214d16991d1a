<script setup lang="ts">
/** A field of a form: its label, its control, a hint, and what is wrong with what was typed, beside it. */
defineProps<{
  label: string
  /** Id of the control, for the label. */
  for?: string
  hint?: string
  /** What the server says is wrong with it; nothing while it is right. */
  fault?: string
}>()
</script>

<template>
  <label :for="$props.for" class="label">{{ label }}</label>
  <div class="control" :class="{ faulty: fault }">
    <slot />
    <em v-if="fault" role="alert">{{ fault }}</em>
    <span v-else-if="hint" class="muted hint">{{ hint }}</span>
  </div>
</template>

<style scoped>
.label {
  padding-top: 3px;
}
.control {
  min-width: 0;
}
.faulty :deep(.ant-input),
.faulty :deep(.ant-input-number),
.faulty :deep(.ant-select-selector) {
  border-color: var(--warn);
}
em,
.hint {
  display: block;
  font-size: 12.5px;
}
em {
  color: var(--warn);
  font-style: normal;
}
</style>
