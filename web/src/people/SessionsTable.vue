<script setup lang="ts">
import { Button } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { ago, clock } from '../format'
import SortHead from '../pictures/SortHead.vue'
import { useSort } from '../composables/useSort'

/** Browsers that are signed in, each with a way to end it. */
const props = defineProps<{ sessions: readonly Schemas['SessionFigures'][]; busy: string }>()
defineEmits<{ end: [session_id: number] }>()
type Row = Schemas['SessionFigures']
const { sorted, sorting } = useSort(() => props.sessions, {
  client: (row: Row) => row.client,
  program: (row: Row) => row.program,
  began: (row: Row) => Date.parse(row.began_at),
  seen: (row: Row) => Date.parse(row.seen_at),
  expires: (row: Row) => Date.parse(row.expires_at),
})
</script>

<template>
  <table class="figures" data-test="sessions">
    <thead>
      <tr>
        <SortHead :sorting="sorting" column="client">address</SortHead>
        <SortHead :sorting="sorting" column="program" class="wide">browser</SortHead>
        <SortHead :sorting="sorting" column="began">started</SortHead>
        <SortHead :sorting="sorting" column="seen">last used</SortHead>
        <SortHead :sorting="sorting" column="expires">expires</SortHead>
        <th></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="session in sorted" :key="session.session_id">
        <td class="mono">{{ session.client }}</td>
        <td class="wide">{{ session.program || 'unknown' }}</td>
        <td class="number">{{ clock(session.began_at, new Date(), false) }}</td>
        <td class="number">{{ ago(session.seen_at, new Date()) }}</td>
        <td class="number">{{ clock(session.expires_at, new Date(), false) }}</td>
        <td>
          <b v-if="session.is_this">this session</b>
          <Button
            v-else
            size="small"
            :loading="busy === `session ${session.session_id}`"
            @click="$emit('end', session.session_id)"
            >End session</Button
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
