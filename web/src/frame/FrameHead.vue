<script setup lang="ts">
import { Dropdown, Menu, MenuItem } from 'ant-design-vue'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { entries, entryOf, VERBS } from '../pages'
import { useRoster } from '../stores/roster'
import { useSession } from '../stores/session'
import BrandMark from './BrandMark.vue'
import { useLinks } from './useLinks'

/** Two lines: the parts of the application, and the pages of the part that is open. */
const { dark } = defineProps<{ dark: boolean }>()
const emit = defineEmits<{ theme: []; search: []; keys: [] }>()
const router = useRouter()
const roster = useRoster()
const session = useSession()
const { page, to } = useLinks()

const role = computed(() => session.current?.role)
const entry = computed(() => entryOf(page.value))
const parts = computed(() =>
  VERBS.map((verb) => ({ verb, pages: entries(verb, role.value) })).filter(({ pages }) => pages.length > 0),
)
const own = computed(() => entries(undefined, role.value))
/** The pages beside the one shown; pages about Hurnix itself stand beside each other too. */
const beside = computed(() => (entry.value ? entries(entry.value.verb, role.value) : []))

async function signOut(): Promise<void> {
  roster.stop()
  await session.signOut()
  await router.push({ name: 'sign-in' })
}
</script>

<template>
  <header>
    <div class="parts">
      <RouterLink :to="{ name: 'instances' }" class="name"><BrandMark />Hurnix</RouterLink>
      <nav aria-label="Parts of Hurnix">
        <RouterLink
          v-for="{ verb, pages } in parts"
          :key="verb"
          :to="to(pages[0]!)"
          :class="{ current: entry?.verb === verb }"
          :aria-current="entry?.verb === verb ? 'true' : undefined"
          >{{ verb }}</RouterLink
        >
      </nav>
      <button type="button" class="search" title="Key: . (full stop)" @click="emit('search')">
        Go to … <kbd>.</kbd>
      </button>
      <Dropdown :trigger="['click']" placement="bottomRight">
        <button type="button" class="who" aria-haspopup="menu" data-test="who">
          {{ session.current?.name }} <span aria-hidden="true">▾</span>
        </button>
        <template #overlay>
          <Menu :selected-keys="[entry?.name ?? '']">
            <MenuItem v-for="one in own" :key="one.name">
              <RouterLink :to="to(one)">{{ one.title }}</RouterLink>
            </MenuItem>
            <MenuItem key="keys" @click="emit('keys')">Keyboard shortcuts</MenuItem>
            <MenuItem key="theme" @click="emit('theme')">{{ dark ? 'Light theme' : 'Dark theme' }}</MenuItem>
            <MenuItem key="out" @click="signOut">Sign out</MenuItem>
          </Menu>
        </template>
      </Dropdown>
    </div>
    <nav v-if="beside.length" class="pages" :aria-label="`Pages of ${entry?.verb ?? 'Hurnix itself'}`">
      <RouterLink
        v-for="one in beside"
        :key="one.name"
        :to="to(one)"
        :class="{ current: entry?.name === one.name }"
        :aria-current="entry?.name === one.name ? 'page' : undefined"
        >{{ one.title }}</RouterLink
      >
    </nav>
  </header>
</template>

<style scoped>
header {
  background: var(--sheet);
  border-bottom: 1px solid var(--rule);
}
.parts {
  display: flex;
  align-items: center;
  gap: 12px;
  padding: 0 14px;
  background: var(--sunk);
}
.name {
  display: flex;
  align-items: center;
  gap: 8px;
  width: 186px;
  padding: 5px 0;
  font-size: 18px;
  font-weight: 700;
  color: var(--ink);
  text-decoration: none;
}
nav {
  display: flex;
  gap: 2px;
}
nav a {
  color: inherit;
  text-decoration: none;
  white-space: nowrap;
}
.parts nav {
  align-self: stretch;
  flex: 1;
}
.parts nav a {
  display: flex;
  align-items: center;
  padding: 0 14px;
}
.parts nav a:hover {
  background: var(--paper);
}
.parts nav a.current {
  background: var(--sheet);
  font-weight: 700;
}
.pages {
  padding: 0 14px 0 200px;
  min-height: 32px;
}
.pages a {
  padding: 5px 11px 4px;
  border-bottom: 3px solid transparent;
}
.pages a:hover {
  border-bottom-color: var(--rule);
}
.pages a.current {
  border-bottom-color: var(--plum);
  font-weight: 700;
}
.search,
.who {
  border: 1px solid var(--rule);
  background: var(--sheet);
  color: inherit;
  font: inherit;
  padding: 2px 10px;
  white-space: nowrap;
  cursor: pointer;
}
.search {
  color: var(--muted);
}
kbd {
  font-family: inherit;
  border: 1px solid var(--rule);
  padding: 0 5px;
  margin-left: 10px;
}
</style>
