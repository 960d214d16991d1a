<script setup lang="ts">
import { Modal } from 'ant-design-vue'
import { computed } from 'vue'
import { PAGES, sees } from '../pages'
import { useSession } from '../stores/session'

/** All shortcuts, on one sheet. */
const open = defineModel<boolean>('open', { required: true })
const session = useSession()
const pages = computed(() => PAGES.filter((page) => page.key && sees(session.current?.role, page)))
const KEYS = [
  { keys: ['.'], does: 'Go to a page, an instance, a statement …' },
  { keys: ['?'], does: 'Show this list' },
  { keys: ['←', '→'], does: 'On the time ruler: earlier, later. On strips: choose a column of time' },
  { keys: ['Del'], does: 'On the window compared with: remove it' },
  { keys: ['+', '−'], does: 'On the time ruler: a shorter, a longer window' },
  { keys: ['Esc'], does: 'Close what is open; clear the column of time chosen' },
]
</script>

<template>
  <Modal v-model:open="open" title="Keyboard shortcuts" :footer="null" width="460px">
    <table class="figures">
      <tbody>
        <tr v-for="{ keys, does } in KEYS" :key="does">
          <td>
            <kbd v-for="key in keys" :key="key">{{ key }}</kbd>
          </td>
          <td>{{ does }}</td>
        </tr>
        <tr v-for="page in pages" :key="page.name">
          <td>
            <kbd>g</kbd><kbd>{{ page.key }}</kbd>
          </td>
          <td>{{ page.title }}</td>
        </tr>
      </tbody>
    </table>
  </Modal>
</template>

<style scoped>
td:first-child {
  white-space: nowrap;
  width: 80px;
}
kbd {
  font-family: inherit;
  border: 1px solid var(--rule);
  padding: 0 6px;
  margin-right: 4px;
}
</style>
