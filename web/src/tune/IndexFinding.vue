<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { nextTick, onMounted, ref } from 'vue'
import type { Schemas } from '../api/client'
import { bytes } from '../format'
import TableLink from '../ui/TableLink.vue'
import StatementToRun from './StatementToRun.vue'

/** One finding on an index: what it costs, when to leave it, and the statement with its decisions left open. */
defineProps<{
  database: string
  finding: Schemas['IndexFindingFigures']
  kind?: Schemas['IndexFindingKindFigures']
}>()
defineEmits<{ close: [] }>()
const sheet = ref<HTMLElement | null>(null)
onMounted(() => nextTick(() => sheet.value?.scrollIntoView?.({ block: 'nearest' })))
</script>

<template>
  <section ref="sheet" class="sheet" data-test="index-finding">
    <header>
      <h2>
        {{ kind?.title }}:
        <span class="mono">{{ finding.index ?? `${finding.schema}.${finding.table}` }}</span>
      </h2>
      <Button size="small" @click="$emit('close')">Close</Button>
    </header>
    <dl>
      <dt>what was found</dt>
      <dd>{{ finding.evidence }}</dd>
      <dt>table</dt>
      <dd><TableLink :database="database" :name="`${finding.schema}.${finding.table}`" /></dd>
      <dt>what it costs</dt>
      <dd>{{ kind?.costs }}</dd>
      <template v-if="finding.freed_bytes > 0">
        <dt>given back</dt>
        <dd>{{ bytes(finding.freed_bytes) }}</dd>
      </template>
      <dt>leave it when</dt>
      <dd>{{ kind?.ignored_when }}</dd>
    </dl>
    <StatementToRun v-if="finding.statement.length" :pieces="finding.statement" />
    <p v-else-if="finding.held_back" class="muted">{{ finding.held_back }}</p>
    <p v-else class="muted">No single statement does this: it takes a look at the statements on its table.</p>
  </section>
</template>

<style scoped>
header {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
header h2 {
  flex: 1;
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 14px;
  margin: 0 0 10px;
}
dt {
  color: var(--muted);
}
dd {
  margin: 0;
}
</style>
