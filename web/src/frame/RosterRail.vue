<script setup lang="ts">
import { useStorage, useVirtualList } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { ago } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import MiniStrip from '../pictures/MiniStrip.vue'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import { rosterRows } from './rosterRows'
import { useLinks } from './useLinks'
import ChoiceSelect from '../ui/ChoiceSelect.vue'

/** All instances under care, always in sight: by group, with what is pinned first. */
const GROUP_HEIGHT = 28
const ENTRY_HEIGHT = 66
const ORDERS: { value: Schemas['RosterOrder']; label: string }[] = [
  { value: 'urgency', label: 'urgent first' },
  { value: 'label', label: 'by label' },
]
const HEALTHS: { value: Schemas['Health'] | ''; label: string }[] = [
  { value: '', label: 'any state' },
  { value: 'act', label: 'act' },
  { value: 'look', label: 'look' },
  { value: 'quiet', label: 'quiet' },
  { value: 'no_data', label: 'no data' },
]
const roster = useRoster()
const session = useSession()
const { label } = useInstance()
const { on } = useLinks()
const filter = ref('')
const health = ref<Schemas['Health'] | ''>('')
/** How wide it is belongs to the screen, not to the person. */
const isThin = useStorage('hurnix-thin-roster', false)

const rows = computed(() =>
  rosterRows(roster.instances, {
    filter: filter.value,
    health: health.value,
    preferences: session.preferences,
  }),
)
const shown = computed(() => rows.value.filter((row) => row.kind === 'instance').length)
const { list, containerProps, wrapperProps } = useVirtualList(rows, {
  itemHeight: (at) => (rows.value[at]?.kind === 'group' ? GROUP_HEIGHT : ENTRY_HEIGHT),
  overscan: 8,
})

function toggle<T>(all: readonly T[], one: T): T[] {
  return all.includes(one) ? all.filter((other) => other !== one) : [...all, one]
}
function fold(key: string): void {
  void session.prefer({ folded_groups: toggle(session.preferences.folded_groups, key) })
}
function pin(id: number): void {
  void session.prefer({ pinned: toggle(session.preferences.pinned, id) })
}
/** Moves what is pinned up or down in its own order. */
function move(id: number, by: number, event: KeyboardEvent): void {
  const pinned = [...session.preferences.pinned]
  const at = pinned.indexOf(id)
  const there = at + by
  if (at < 0 || there < 0 || there >= pinned.length) return
  event.preventDefault()
  ;[pinned[at], pinned[there]] = [pinned[there]!, pinned[at]!]
  void session.prefer({ pinned })
}
</script>

<template>
  <nav v-if="isThin" class="rail thin" aria-label="Roster: all instances">
    <button type="button" title="Unfold the roster" aria-label="Unfold the roster" @click="isThin = false">
      »
    </button>
    <div v-bind="containerProps" class="scroll" tabindex="-1">
      <ul v-bind="wrapperProps">
        <li v-for="{ data: row, index } in list" :key="index" :class="row.kind">
          <RouterLink
            v-if="row.kind === 'instance'"
            :to="on(row.instance.label)"
            :title="row.instance.label"
            class="entry"
            :class="{ current: label === row.instance.label }"
            :aria-current="label === row.instance.label ? 'true' : undefined"
          >
            <span class="upright">{{ row.instance.label }}</span>
          </RouterLink>
        </li>
      </ul>
    </div>
  </nav>
  <nav v-else class="rail" aria-label="Roster: all instances">
    <div class="line">
      <RouterLink class="all" :to="{ name: 'instances' }"
        >All instances ({{ roster.instances.length }})</RouterLink
      >
      <button type="button" title="Fold the roster" aria-label="Fold the roster" @click="isThin = true">
        «
      </button>
    </div>
    <p v-if="session.notKept" class="not-kept" role="status">
      This arrangement holds for this visit only: {{ session.notKept }}
    </p>
    <input v-model="filter" type="search" placeholder="Filter the roster" aria-label="Filter the roster" />
    <div class="line">
      <ChoiceSelect v-model="health" :options="HEALTHS" name="State of the instances shown" />
      <ChoiceSelect
        :model-value="session.preferences.order"
        :options="ORDERS"
        name="Order of the instances"
        @update:model-value="(order) => session.prefer({ order })"
      />
    </div>
    <p v-if="roster.problem" class="note" role="alert">
      {{ roster.problem.title }}. {{ roster.problem.detail }}
    </p>
    <p v-else-if="roster.loaded && roster.instances.length === 0" class="note">
      There is no instance yet. Open “All instances” and add one.
    </p>
    <p v-else-if="roster.loaded && shown === 0 && rows.length === 0" class="note">
      No label contains “{{ filter }}”<template v-if="health"> in this state</template>.
    </p>
    <div v-bind="containerProps" class="scroll" tabindex="-1">
      <ul v-bind="wrapperProps">
        <li v-for="{ data: row, index } in list" :key="index" :class="row.kind">
          <button
            v-if="row.kind === 'group'"
            type="button"
            class="head"
            :aria-expanded="!row.isFolded"
            @click="fold(row.key)"
          >
            <span aria-hidden="true">{{ row.isFolded ? '▸' : '▾' }}</span> {{ row.name }} ({{ row.count }})
          </button>
          <template v-else>
            <RouterLink
              :to="on(row.instance.label)"
              class="entry"
              :class="{ current: label === row.instance.label }"
              :aria-current="label === row.instance.label ? 'true' : undefined"
            >
              <span class="line">
                <span class="label one-line" :title="row.instance.label">{{ row.instance.label }}</span>
                <HealthMark :health="row.instance.health" />
              </span>
              <span v-if="row.instance.collection === 'failing'" class="note one-line">
                no figures, last {{ ago(row.instance.last_success_at, new Date()) }}
              </span>
              <span v-else-if="row.instance.collection === 'waiting'" class="note one-line"
                >waiting for the first figures</span
              >
              <MiniStrip
                v-else
                :cells="row.instance.strip"
                :low="row.instance.strip_low"
                :high="row.instance.strip_high"
                :label="`Load of ${row.instance.label} in the last hours`"
              />
            </RouterLink>
            <button
              type="button"
              class="pin"
              :aria-pressed="row.isPinned"
              :title="
                row.isPinned ? 'Unpin; Alt with ↑ or ↓ moves it' : 'Pin: keep it at the top of the roster'
              "
              :aria-label="`Pin ${row.instance.label}`"
              @click="pin(row.instance.instance_id)"
              @keydown.alt.up="move(row.instance.instance_id, -1, $event)"
              @keydown.alt.down="move(row.instance.instance_id, 1, $event)"
            >
              {{ row.isPinned ? 'unpin' : 'pin' }}
            </button>
          </template>
        </li>
      </ul>
    </div>
  </nav>
</template>

<style scoped>
.not-kept {
  color: var(--warn);
  font-size: 12.5px;
}
.rail {
  width: 200px;
  padding: 8px;
  border-right: 1px solid var(--rule);
  min-height: 0;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.thin {
  width: 34px;
  padding: 8px 3px;
}
input {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 6px;
  width: 100%;
}
.line .choice {
  padding: 2px 0;
  font-size: 12.5px;
  min-width: 0;
}
button {
  font: inherit;
  color: var(--muted);
  border: 0;
  background: none;
  padding: 0 4px;
  cursor: pointer;
}
.all {
  color: inherit;
}
.scroll {
  flex: 1;
  min-height: 0;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  position: relative;
}
li.group {
  height: 28px;
}
li.instance {
  height: 66px;
}
.head {
  width: 100%;
  text-align: left;
  padding: 4px 0;
}
.entry {
  display: block;
  height: 60px;
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
.thin .entry {
  padding: 2px;
  border-left-width: 3px;
  overflow: hidden;
}
.upright {
  writing-mode: vertical-rl;
  font-size: 12px;
  height: 54px;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.pin {
  position: absolute;
  right: 3px;
  bottom: 8px;
  font-size: 12px;
  opacity: 0;
  background: var(--sheet);
}
.pin:focus-visible,
li:hover .pin {
  opacity: 1;
}
.line {
  display: flex;
  justify-content: space-between;
  gap: 6px;
}
.entry .line {
  margin-bottom: 3px;
}
.label {
  font-weight: 700;
}
.note {
  font-size: 12.5px;
  color: var(--muted);
  margin: 0;
}
</style>
