<script setup lang="ts">
import BrandMark from '../frame/BrandMark.vue'

/** The form that stands at the door: who has not passed it sees nothing else. */
defineProps<{ intro: string; action: string; busy: boolean; trouble: string | undefined }>()
defineEmits<{ submit: [] }>()
</script>

<template>
  <div class="page">
    <form @submit.prevent="$emit('submit')">
      <h1><BrandMark />Hurnix</h1>
      <p class="muted">{{ intro }}</p>
      <slot />
      <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
      <button type="submit" :disabled="busy">{{ action }}</button>
    </form>
  </div>
</template>

<style scoped>
.page {
  height: 100%;
  display: grid;
  place-items: center;
}
form {
  width: 340px;
  background: var(--sheet);
  border: 1px solid var(--rule);
  border-top: 3px solid var(--plum);
  padding: 22px 26px 26px;
}
h1 {
  display: flex;
  gap: 10px;
  align-items: center;
  font-size: 22px;
  margin-bottom: 4px;
}
form :deep(label) {
  display: block;
  margin-top: 12px;
}
form :deep(input) {
  display: block;
  width: 100%;
  font: inherit;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--muted);
  padding: 6px 8px;
}
button {
  margin-top: 16px;
  width: 100%;
  font: inherit;
  font-weight: 700;
  padding: 7px;
  border: 0;
  background: var(--plum);
  color: var(--on-plum);
  cursor: pointer;
}
.trouble {
  margin: 12px 0 0;
  border-left: 4px solid var(--warn);
  background: var(--warn-wash);
  padding: 6px 8px;
}
</style>
