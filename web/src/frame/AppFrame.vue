<script setup lang="ts">
import { usePreferredDark, useStorage } from '@vueuse/core'
import { ConfigProvider, Dropdown, Menu, MenuItem } from 'ant-design-vue'
import { computed, onBeforeUnmount, onMounted, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useInstance } from '../composables/useInstance'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import { controlTheme } from '../theme'
import BrandMark from './BrandMark.vue'
import RosterRail from './RosterRail.vue'
import TimeRuler from './TimeRuler.vue'

/** What never leaves the screen: the verbs, which instance, and which time. */
const VERBS = [
  {
    verb: 'Watch',
    pages: [
      { name: 'instances', title: 'Instances' },
      { name: 'sessions', title: 'Sessions' },
      { name: 'figures', title: 'What it tells' },
    ],
  },
  {
    verb: 'Diagnose',
    pages: [
      { name: 'first-look', title: 'First look' },
      { name: 'load', title: 'Load' },
      { name: 'statements', title: 'Statements' },
      { name: 'databases', title: 'Databases' },
    ],
  },
  { verb: 'Tune', pages: [{ name: 'advice-book', title: 'Advice book' }] },
] as const

/** Pages that are about no instance; the others of them are for administrators only. */
const OWN = [
  { name: 'account', title: 'Your account' },
  { name: 'windows', title: 'Maintenance windows' },
]
const ADMINISTRATION = [
  { name: 'actions', title: 'Actions and approvals' },
  { name: 'accounts', title: 'Accounts' },
  { name: 'audit', title: 'Audit trail' },
]
const OF_NO_INSTANCE: readonly (string | undefined)[] = [
  'instances',
  ...[...OWN, ...ADMINISTRATION].map((page) => page.name),
]

const route = useRoute()
const router = useRouter()
const roster = useRoster()
const session = useSession()
const { label, instance } = useInstance()

const ofNoInstance = computed(() =>
  session.current?.role === 'administrator' ? [...OWN, ...ADMINISTRATION] : OWN,
)

const prefersDark = usePreferredDark()
const chosen = useStorage<'light' | 'dark' | ''>('hurnix-theme', '')
const dark = computed(() => (chosen.value || (prefersDark.value ? 'dark' : 'light')) === 'dark')
watchEffect(() => (document.documentElement.dataset.theme = dark.value ? 'dark' : 'light'))

onMounted(() => {
  void roster.refresh()
  roster.listen()
})
onBeforeUnmount(() => roster.stop())

/** Pages of an instance keep to the one chosen, or go to the first. */
const target = computed(() => label.value || roster.instances[0]?.label)
function to(name: string) {
  if (name === 'instances') return { name }
  if (!target.value) return { name: 'instances' }
  const { from, to, last } = route.query
  return { name, params: { instance: target.value }, query: { from, to, last } }
}
const unknown = computed(() => roster.loaded && label.value !== '' && !instance.value)

async function signOut(): Promise<void> {
  roster.stop()
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <ConfigProvider :theme="controlTheme(dark)">
    <div class="frame">
      <header class="no-print">
        <RouterLink :to="{ name: 'instances' }" class="name"><BrandMark />Hurnix</RouterLink>
        <nav aria-label="Parts of Hurnix">
          <div v-for="{ verb, pages } in VERBS" :key="verb" class="verb">
            <span>{{ verb }}</span>
            <RouterLink
              v-for="page in pages"
              :key="page.name"
              :to="to(page.name)"
              :class="{ current: route.meta.page === page.name }"
              :aria-current="route.meta.page === page.name ? 'page' : undefined"
              >{{ page.title }}</RouterLink
            >
          </div>
        </nav>
        <Dropdown :trigger="['click']" placement="bottomRight">
          <button type="button" class="who" aria-haspopup="menu" data-test="who">
            {{ session.current?.name }} <span aria-hidden="true">▾</span>
          </button>
          <template #overlay>
            <Menu :selected-keys="[route.meta.page ?? '']">
              <MenuItem v-for="page in ofNoInstance" :key="page.name">
                <RouterLink :to="{ name: page.name }">{{ page.title }}</RouterLink>
              </MenuItem>
              <MenuItem key="theme" @click="chosen = dark ? 'light' : 'dark'">
                {{ dark ? 'Light theme' : 'Dark theme' }}
              </MenuItem>
              <MenuItem key="out" @click="signOut">Sign out</MenuItem>
            </Menu>
          </template>
        </Dropdown>
      </header>
      <RosterRail class="no-print rail" />
      <div class="body">
        <TimeRuler class="no-print" />
        <main>
          <div v-if="unknown" class="sheet">
            <h2>There is no instance “{{ label }}”</h2>
            <p>It may have another label now. Choose one from the roster at the side.</p>
          </div>
          <template v-else-if="OF_NO_INSTANCE.includes(route.meta.page) || instance">
            <div v-if="instance?.problem" class="sheet failing" role="alert">
              <h2>No figures from {{ instance.label }}</h2>
              <p class="detail">{{ instance.problem.message }}</p>
              <p class="detail muted">{{ instance.problem.remedy }}</p>
              <p class="muted">What was collected before is shown below. Collection resumes by itself.</p>
            </div>
            <RouterView />
          </template>
          <p v-else class="muted">Loading …</p>
        </main>
      </div>
    </div>
  </ConfigProvider>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template: auto 1fr / 212px 1fr;
  height: 100%;
}
header {
  grid-column: 1 / -1;
  display: flex;
  align-items: stretch;
  gap: 26px;
  padding: 0 14px;
  border-bottom: 2px solid var(--plum);
  background: var(--sheet);
}
.name {
  display: flex;
  align-items: center;
  gap: 8px;
  font-size: 18px;
  font-weight: 700;
  color: var(--ink);
  text-decoration: none;
  width: 172px;
}
nav {
  display: flex;
  gap: 20px;
}
.verb {
  display: flex;
  align-items: baseline;
  gap: 4px;
  padding-top: 9px;
}
.verb span {
  color: var(--muted);
  font-size: 12.5px;
}
.verb a {
  color: inherit;
  text-decoration: none;
  padding: 2px 7px 9px;
  white-space: nowrap;
  border-bottom: 3px solid transparent;
}
.verb a:hover {
  border-bottom-color: var(--rule);
}
.verb a.current {
  border-bottom-color: var(--plum);
  font-weight: 700;
}
.who {
  margin-left: auto;
  align-self: center;
  border: 1px solid var(--rule);
  background: none;
  color: inherit;
  font: inherit;
  padding: 2px 10px;
  white-space: nowrap;
  cursor: pointer;
}
.body {
  display: grid;
  grid-template-rows: auto 1fr;
  min-width: 0;
  min-height: 0;
}
main {
  overflow-y: auto;
  padding: 12px 14px 30px;
}
.failing {
  border-left: 4px solid var(--warn);
}
.detail {
  white-space: pre-wrap;
}
@media print {
  .frame,
  .body {
    display: block;
  }
  main {
    overflow: visible;
  }
}
</style>
