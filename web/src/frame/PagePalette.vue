<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { Modal } from 'ant-design-vue'
import { computed, nextTick, ref, watch } from 'vue'
import { useRouter, type RouteLocationRaw } from 'vue-router'
import { answer, api, Failure, type Schemas } from '../api/client'
import { needsInstance, PAGES, sees } from '../pages'
import HealthMark from '../pictures/HealthMark.vue'
import { useInstance } from '../composables/useInstance'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import { pageActions } from './pageActions'
import { ranked } from './ranking'
import { useLinks } from './useLinks'
import { tableRoute } from '../ui/tableRoute'

/**
 * Goes to any page, instance, statement, table, recommendation or account by a few letters of its name, and does what
 * the page shown can do.
 */
interface Goal {
  key: string
  sort: string
  title: string
  where?: string
  mono?: boolean
  health?: Schemas['Health']
  /** Where it leads, or what it does. */
  to: RouteLocationRaw | (() => void)
}
/** Of each sort so many are shown. */
const MOST = 6
/** Shorter texts are in too many statements to be searched for. */
const LEAST_LETTERS = 3
const open = defineModel<boolean>('open', { required: true })
const router = useRouter()
const roster = useRoster()
const session = useSession()
const { instance } = useInstance()
const { to, on } = useLinks()
const typed = ref('')
const asked = refDebounced(typed, 40)
const found = ref<Schemas['Found'][]>([])
/** Why statements and the like could not be looked through. */
const trouble = ref('')
const chosen = ref(0)
const input = ref<HTMLInputElement | null>(null)

watch(open, async (isOpen) => {
  if (!isOpen) return
  typed.value = ''
  found.value = []
  await nextTick()
  setTimeout(() => input.value?.focus())
})
watch(typed, () => (chosen.value = 0))
watch(asked, async (text) => {
  if (text.trim().length < LEAST_LETTERS) return void (found.value = [])
  try {
    const answers = await answer(api.GET('/api/v1/search', { params: { query: { text: text.trim() } } }))
    if (text === asked.value) found.value = answers
    trouble.value = ''
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    found.value = []
    trouble.value = `${error.problem.title}. ${error.problem.detail}`
  }
})

const labels = computed(() => new Map(roster.instances.map((one) => [one.instance_id, one.label])))
function goalOf(one: Schemas['Found']): Goal | null {
  const label = one.instance_id == null ? undefined : labels.value.get(one.instance_id)
  const goal = {
    key: `${one.kind} ${one.instance_id} ${one.id} ${one.title}`,
    title: one.title,
    where: label,
  }
  if (one.kind === 'account') return { ...goal, sort: 'Account', to: { name: 'accounts' } }
  if (!label) return null
  const params = { instance: label }
  switch (one.kind) {
    case 'statement':
      return {
        ...goal,
        sort: 'Statement',
        mono: true,
        to: { name: 'family', params: { ...params, family: one.id } },
      }
    case 'advice':
      return {
        ...goal,
        sort: 'Recommendation',
        to: { name: 'advice', params: { ...params, advice: one.id } },
      }
    case 'table':
      return {
        ...goal,
        sort: 'Table',
        where: `${label}, ${one.id}`,
        to: tableRoute(one.id, one.title, params),
      }
  }
}
const goals = computed<Goal[]>(() => {
  const pages = ranked(
    typed.value,
    PAGES.filter((page) => !page.of && sees(session.current?.role, page)),
    (page) => page.title,
  ).map((page) => ({
    key: page.name,
    sort: page.verb ?? 'Hurnix',
    title: page.title,
    where: needsInstance(page) ? (instance.value?.label ?? roster.instances[0]?.label) : undefined,
    to: to(page),
  }))
  const instances = ranked(typed.value, roster.instances, (one) => one.label).map((one) => ({
    key: `instance ${one.instance_id}`,
    sort: 'Instance',
    title: one.label,
    health: one.health,
    to: on(one.label),
  }))
  const actions = ranked(typed.value, pageActions.value, (one) => one.title).map((one) => ({
    key: `action ${one.title}`,
    sort: 'Action',
    title: one.title,
    to: one.run,
  }))
  const others = found.value.map(goalOf).filter((goal) => goal !== null)
  return typed.value.trim() === ''
    ? [...actions, ...pages, ...instances.slice(0, MOST)]
    : [...instances.slice(0, MOST), ...actions, ...pages.slice(0, MOST), ...others]
})

function key(event: KeyboardEvent): void {
  const step = event.key === 'ArrowDown' ? 1 : event.key === 'ArrowUp' ? -1 : 0
  if (step) {
    event.preventDefault()
    const last = goals.value.length - 1
    chosen.value = Math.min(Math.max(chosen.value + step, 0), Math.max(last, 0))
    void nextTick(() => document.getElementById(`goal-${chosen.value}`)?.scrollIntoView({ block: 'nearest' }))
  } else if (event.key === 'Enter') {
    event.preventDefault()
    go(goals.value[chosen.value])
  }
}
function go(goal: Goal | undefined): void {
  if (!goal) return
  open.value = false
  if (typeof goal.to === 'function') goal.to()
  else void router.push(goal.to)
}
</script>

<template>
  <Modal v-model:open="open" :footer="null" :closable="false" width="640px" wrap-class-name="palette">
    <label class="muted" for="palette"
      >Go to a page, an instance, a statement, a table, a recommendation; or do what this page can do</label
    >
    <input
      id="palette"
      ref="input"
      v-model="typed"
      type="search"
      role="combobox"
      autocomplete="off"
      aria-expanded="true"
      aria-controls="goals"
      :aria-activedescendant="goals.length ? `goal-${chosen}` : undefined"
      data-test="palette"
      @keydown="key"
    />
    <ul id="goals" role="listbox" aria-label="What can be gone to" data-test="goals">
      <li
        v-for="(goal, i) in goals"
        :id="`goal-${i}`"
        :key="goal.key"
        role="option"
        :aria-selected="i === chosen"
        @click="go(goal)"
        @pointermove="chosen = i"
      >
        <span class="sort muted">{{ goal.sort }}</span>
        <span class="title one-line" :class="{ mono: goal.mono }">{{ goal.title }}</span>
        <HealthMark v-if="goal.health" :health="goal.health" />
        <span v-if="goal.where" class="where muted">{{ goal.where }}</span>
      </li>
    </ul>
    <p v-if="trouble" class="none" role="alert">{{ trouble }}</p>
    <p v-else-if="goals.length === 0" class="muted none">Nothing is called “{{ typed }}”, or nearly so.</p>
  </Modal>
</template>

<style scoped>
label {
  display: block;
  margin-bottom: 6px;
}
input {
  width: 100%;
  font: inherit;
  font-size: 16px;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--muted);
  padding: 6px 8px;
}
ul {
  list-style: none;
  margin: 8px 0 0;
  padding: 0;
  max-height: 380px;
  overflow-y: auto;
}
li {
  display: flex;
  gap: 12px;
  align-items: baseline;
  padding: 4px 8px;
  cursor: pointer;
}
li[aria-selected='true'] {
  background: var(--plum-wash);
}
.sort {
  flex: none;
  width: 110px;
}
.title {
  flex: 1;
  min-width: 0;
}
.where {
  flex: none;
}
.none {
  margin: 10px 8px 0;
}
</style>
