<script setup lang="ts" generic="T extends string | number | undefined">
/** One of a few choices, drawn as the browser draws them, so that every key of it works. */
const props = defineProps<{
  options: readonly { value: T; label: string; disabled?: boolean }[]
  /** What is chosen here, for who does not see it; left out where a label stands beside it. */
  name?: string
  id?: string
}>()
const chosen = defineModel<T>({ required: true })
/** Somebody is about to choose. */
const emit = defineEmits<{ begin: [] }>()
function choose(event: Event): void {
  const option = props.options[(event.target as HTMLSelectElement).selectedIndex]
  if (option) chosen.value = option.value
}
</script>

<template>
  <select
    :id="id"
    class="choice"
    :aria-label="name"
    @change="choose"
    @focus="emit('begin')"
    @mousedown="emit('begin')"
  >
    <option
      v-for="option in options"
      :key="String(option.value)"
      :value="option.value"
      :selected="option.value === chosen"
      :disabled="option.disabled"
    >
      {{ option.label }}
    </option>
  </select>
</template>

<style scoped>
.choice {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 4px;
  min-height: 24px;
  max-width: 100%;
}
.choice:focus-visible {
  outline: 2px solid var(--plum);
}
</style>
