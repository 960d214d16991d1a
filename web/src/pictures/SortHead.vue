<script setup lang="ts">
import { computed } from 'vue'
import type { Sorting } from '../composables/useSort'

/** The head of a column that its table can be sorted by. */
const props = defineProps<{ sorting: Sorting; column: string; hint?: string; number?: boolean }>()
const chosen = computed(() => props.sorting.column === props.column)
const order = computed(() => (chosen.value ? (props.sorting.ascending ? 'ascending' : 'descending') : 'none'))
</script>

<template>
  <th :class="{ number }" :aria-sort="order">
    <button type="button" class="sort" :title="hint" :aria-pressed="chosen" @click="sorting.by(column)">
      <slot />{{ chosen ? (sorting.ascending ? ' ↑' : ' ↓') : '' }}
    </button>
  </th>
</template>
