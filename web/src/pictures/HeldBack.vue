<script setup lang="ts">
import type { Schemas } from '../api/client'
import { count } from '../format'

/** What keeps vacuum from removing row versions, the oldest first. */
defineProps<{ held: readonly Schemas['HeldBack'][] }>()
const FIRST = 6
</script>

<template>
  <p v-if="held.length === 0" class="muted">Nothing: vacuum may remove all dead rows.</p>
  <table v-else class="figures" data-test="held-back">
    <thead>
      <tr>
        <th>needed by</th>
        <th class="number">transactions since then</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in held.slice(0, FIRST)" :key="one.by">
        <td>{{ one.by }}</td>
        <td class="number">{{ count(Math.round(one.transactions)) }}</td>
      </tr>
    </tbody>
  </table>
  <p v-if="held.length > FIRST" class="muted">{{ held.length - FIRST }} more need younger row versions.</p>
</template>

<style scoped>
p {
  margin: 0;
}
table {
  width: auto;
}
</style>
