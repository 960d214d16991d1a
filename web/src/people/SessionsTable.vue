<script setup lang="ts">
import { Button } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { ago, clock } from '../format'
import DataTable from '../ui/DataTable.vue'
import type { Column } from '../ui/table'

/** Browsers that are signed in, each with a way to end it. */
defineProps<{ sessions: readonly Row[]; busy: string }>()
defineEmits<{ end: [session_id: number] }>()
type Row = Schemas['SessionFigures']
const COLUMNS: Column<Row>[] = [
  { key: 'client', title: 'address', value: (row) => row.client },
  { key: 'program', title: 'browser', wide: true, value: (row) => row.program || 'unknown' },
  {
    key: 'began',
    title: 'started',
    number: true,
    value: (row) => row.began_at,
    text: (row) => clock(row.began_at, new Date(), false),
  },
  {
    key: 'seen',
    title: 'last used',
    number: true,
    value: (row) => row.seen_at,
    text: (row) => ago(row.seen_at, new Date()),
  },
  {
    key: 'expires',
    title: 'expires',
    number: true,
    value: (row) => row.expires_at,
    text: (row) => clock(row.expires_at, new Date(), false),
  },
]
</script>

<template>
  <DataTable
    name="signed-in"
    test="sessions"
    plain
    :rows="sessions"
    :columns="COLUMNS"
    :row-key="(row) => row.session_id"
  >
    <template #cell-client="{ row }"
      ><span class="mono">{{ row.client }}</span></template
    >
    <template #actions="{ row }">
      <b v-if="row.is_this" class="this">this session</b>
      <Button
        v-else
        size="small"
        :loading="busy === `session ${row.session_id}`"
        @click="$emit('end', row.session_id)"
        >End session</Button
      >
    </template>
  </DataTable>
</template>

<style scoped>
.this {
  white-space: nowrap;
}
</style>
