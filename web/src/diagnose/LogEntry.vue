<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { asQuery } from '../composables/useWindow'
import { useInstance } from '../composables/useInstance'
import { useSession } from '../stores/session'
import { logValue } from './logRows'

/** What one entry of the log says: a line, and all of it when it is opened. */
const props = defineProps<{ entry: Schemas['LogEntryFigures'] }>()
const route = useRoute()
const isOpen = ref(false)
/** A minute before and after it, for the load at that moment. */
const around = computed(() => {
  const at = new Date(props.entry.at).getTime()
  return asQuery({ from: new Date(at - 60_000), to: new Date(at + 60_000) })
})
/** The entry as a marker on Load and Resources, for whoever may note any. */
const { instance } = useInstance()
const session = useSession()
const mayMark = computed(() => instance.value && session.current && session.current.role !== 'reader')
const isMarked = ref(false)
const LONGEST = 200
const { busy, problem, run } = useAction()
async function mark(): Promise<void> {
  const path = { instance_id: instance.value?.instance_id ?? 0 }
  const text = `log: ${props.entry.message.replace(/\s+/g, ' ')}`.slice(0, LONGEST)
  isMarked.value = await run('mark', () =>
    answer(
      api.POST('/api/v1/instances/{instance_id}/markers', {
        params: { path },
        body: { text, at: props.entry.at },
      }),
    ),
  )
}
const PARTS = computed(() =>
  [
    { name: 'severity', says: `${props.entry.severity}, SQLSTATE ${props.entry.state}` },
    { name: 'detail', says: props.entry.detail, mono: true },
    { name: 'statement', says: props.entry.statement, mono: true },
    { name: 'database', says: props.entry.database },
    { name: 'program', says: props.entry.program },
    { name: 'client', says: props.entry.client },
    { name: 'process', says: String(props.entry.process) },
  ].filter((part) => part.says),
)
</script>

<template>
  <button type="button" class="line one-line" :aria-expanded="isOpen" @click="isOpen = !isOpen">
    <span aria-hidden="true">{{ isOpen ? '▾' : '▸' }}</span> {{ entry.message }}
    <span v-if="entry.value != null" class="muted">({{ logValue(entry.kind, entry.value) }})</span>
  </button>
  <div v-if="isOpen" class="more">
    <p class="message">{{ entry.message }}</p>
    <dl>
      <template v-for="part in PARTS" :key="part.name">
        <dt class="muted">{{ part.name }}</dt>
        <dd :class="{ mono: part.mono }">{{ part.says }}</dd>
      </template>
    </dl>
    <p class="no-print">
      <RouterLink
        v-if="entry.family_id"
        :to="{ name: 'family', params: { family: entry.family_id }, query: { last: route.query.last } }"
        >Statement</RouterLink
      >
      <RouterLink :to="{ name: 'load', query: around }">Load at that moment</RouterLink>
      <template v-if="mayMark">
        <span v-if="isMarked" role="status">It stands on the time axis of this instance.</span>
        <button v-else type="button" class="plain mark" :disabled="busy !== ''" @click="mark">
          Mark on the time axis
        </button>
        <em v-if="problem" role="alert">{{ problem.detail }}</em>
      </template>
    </p>
  </div>
</template>

<style scoped>
em {
  color: var(--warn);
  font-style: normal;
}
.line {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  padding: 0;
  text-align: left;
  cursor: pointer;
  max-width: 100%;
}
.more {
  padding: 6px 0 2px 16px;
}
.message {
  white-space: pre-wrap;
}
dl {
  display: grid;
  grid-template-columns: 90px 1fr;
  gap: 2px 10px;
  margin: 0 0 8px;
}
dd {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.more a + a {
  margin-left: 16px;
}
</style>
