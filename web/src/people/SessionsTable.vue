<script setup lang="ts">
import { Button } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { ago, clock } from '../format'

/** Browsers that are signed in, each with a way to end it. */
defineProps<{ sessions: readonly Schemas['SessionFigures'][]; busy: string }>()
defineEmits<{ end: [session_id: number] }>()
</script>

<template>
  <table class="figures" data-test="sessions">
    <thead>
      <tr>
        <th>from</th>
        <th class="wide">browser</th>
        <th>begun</th>
        <th>last used</th>
        <th>ends by itself</th>
        <th></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="session in sessions" :key="session.session_id">
        <td class="mono">{{ session.client }}</td>
        <td class="wide">{{ session.program || 'does not say' }}</td>
        <td class="number">{{ clock(session.began_at, new Date(), false) }}</td>
        <td class="number">{{ ago(session.seen_at, new Date()) }}</td>
        <td class="number">{{ clock(session.expires_at, new Date(), false) }}</td>
        <td>
          <b v-if="session.is_this">this one</b>
          <Button
            v-else
            size="small"
            :loading="busy === `session ${session.session_id}`"
            @click="$emit('end', session.session_id)"
            >End it</Button
          >
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.wide {
  width: 50%;
}
</style>
