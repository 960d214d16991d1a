<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { ago } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import MiniStrip from '../pictures/MiniStrip.vue'
import { useRoster } from '../stores/roster'

const roster = useRoster()
const route = useRoute()
const filter = ref('')
const shown = computed(() => {
  const wanted = filter.value.trim().toLowerCase()
  return roster.instances.filter((instance) => instance.label.toLowerCase().includes(wanted))
})
/** The same page on another instance; its list when the page shows one thing of this instance. */
function elsewhere(label: string) {
  const name = route.params.instance ? String(route.name) : 'load'
  const list: Record<string, string> = { family: 'statements', advice: 'advice-book', database: 'databases' }
  return { name: list[name] ?? name, params: { instance: label }, query: { last: route.query.last } }
}
</script>

<template>
  <nav class="rail" aria-label="Roster: instances under care">
    <input v-model="filter" type="search" placeholder="Filter the roster" aria-label="Filter the roster" />
    <RouterLink class="all" :to="{ name: 'instances' }"
      >All instances ({{ roster.instances.length }})</RouterLink
    >
    <p v-if="roster.problem" class="note" role="alert">
      {{ roster.problem.title }}. {{ roster.problem.detail }}
    </p>
    <p v-else-if="roster.loaded && roster.instances.length === 0" class="note">
      No instance yet. Open “All instances” and connect one.
    </p>
    <p v-else-if="roster.loaded && shown.length === 0" class="note">No label contains “{{ filter }}”.</p>
    <ul>
      <li v-for="instance in shown" :key="instance.instance_id">
        <RouterLink
          :to="elsewhere(instance.label)"
          class="entry"
          :class="{ current: route.params.instance === instance.label }"
          :aria-current="route.params.instance === instance.label ? 'true' : undefined"
        >
          <span class="line">
            <span class="label">{{ instance.label }}</span>
            <HealthMark :health="instance.health" />
          </span>
          <MiniStrip :cells="instance.strip" :label="`Load of ${instance.label} in the last hours`" />
          <span v-if="instance.collection === 'failing'" class="note">
            no figures, last {{ ago(instance.last_success_at, new Date()) }}
          </span>
          <span v-else-if="instance.collection === 'waiting'" class="note"
            >waiting for the first figures</span
          >
        </RouterLink>
      </li>
    </ul>
  </nav>
</template>

<style scoped>
.rail {
  padding: 10px;
  border-right: 1px solid var(--rule);
  overflow-y: auto;
  display: flex;
  flex-direction: column;
  gap: 8px;
}
input {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 6px;
  width: 100%;
}
.all {
  color: inherit;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  display: grid;
  gap: 6px;
}
.entry {
  display: block;
  color: inherit;
  text-decoration: none;
  padding: 6px 8px;
  border: 1px solid var(--rule);
  border-left: 4px solid transparent;
  background: var(--sheet);
}
.entry.current {
  border-left-color: var(--plum);
}
.line {
  display: flex;
  justify-content: space-between;
  gap: 8px;
  margin-bottom: 3px;
}
.label {
  font-weight: 700;
  overflow: hidden;
  text-overflow: ellipsis;
}
.note {
  font-size: 12.5px;
  color: var(--muted);
  margin: 0;
}
</style>
