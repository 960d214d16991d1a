<script setup lang="ts">
import type { Schemas } from '../api/client'
import { bytes, counted, seconds } from '../format'
import TableLink from '../ui/TableLink.vue'

/** Why an index is of no use, and what to make sure of before it is dropped. */
defineProps<{ details: Schemas['UnusedIndex'] }>()
</script>

<template>
  <section class="sheet">
    <h2>Why it is considered unused</h2>
    <dl>
      <dt>index</dt>
      <dd class="mono">
        {{ details.index }} ({{ details.keys.join(', ') }})<template v-if="details.condition">
          WHERE {{ details.condition }}</template
        >
      </dd>
      <dt>table</dt>
      <dd><TableLink :database="details.database" :name="`${details.schema}.${details.table}`" /></dd>
      <dt>size</dt>
      <dd>{{ bytes(details.size_bytes) }}, maintained by every insert and by many updates</dd>
      <dt>not scanned for</dt>
      <dd>
        {{ seconds(details.unread_seconds) }}, on
        {{
          details.servers === 1
            ? 'the only server that has it'
            : `all ${counted(details.servers, 'server')} that have it`
        }}
      </dd>
    </dl>
    <p>No constraint depends on it, it is not unique, and no other index duplicates it.</p>
    <p>
      <b>Before it is dropped:</b> make sure that no yearly work needs it. A month end lies within the time
      that it was watched, a year end may not.
    </p>
    <p v-if="details.has_expression" class="warn">
      One of its keys is an expression: the planner may use what it knows of that expression's values, even
      where it never reads the index. Keep that with <code>CREATE STATISTICS</code>, or compare plans after.
    </p>
    <p class="muted">
      Once it is dropped, the statements on its table are compared with what they took before. <slot />
    </p>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 2px 14px;
  margin: 0 0 8px;
}
dt {
  color: var(--muted);
}
dd {
  margin: 0;
}
.warn {
  border-left: 4px solid var(--warn);
  padding-left: 8px;
}
</style>
