<script setup lang="ts">
import { usePreferredDark, useStorage } from '@vueuse/core'
import { ConfigProvider } from 'ant-design-vue'
import { computed, onBeforeUnmount, onMounted, ref, watchEffect } from 'vue'
import { useRoute } from 'vue-router'
import { useInstance } from '../composables/useInstance'
import { inUtc } from '../format'
import { needsInstance } from '../pages'
import { useRoster } from '../stores/roster'
import { controlTheme } from '../theme'
import PageState from '../ui/PageState.vue'
import FrameHead from './FrameHead.vue'
import KeySheet from './KeySheet.vue'
import PagePalette from './PagePalette.vue'
import RosterRail from './RosterRail.vue'
import TimeRuler from './TimeRuler.vue'
import { useKeys } from './useKeys'
import { useLinks } from './useLinks'

/** What never leaves the screen: the parts, which instance, and which time where a page has use for it. */
const route = useRoute()
const roster = useRoster()
const { label, instance } = useInstance()
const { page } = useLinks()

const prefersDark = usePreferredDark()
const chosen = useStorage<'light' | 'dark' | ''>('hurnix-theme', '')
const dark = computed(() => (chosen.value || (prefersDark.value ? 'dark' : 'light')) === 'dark')
watchEffect(() => (document.documentElement.dataset.theme = dark.value ? 'dark' : 'light'))

watchEffect(() => (inUtc.value = route.query.zone === 'utc'))

const isSearching = ref(false)
const showsKeys = ref(false)
useKeys({
  search: () => (isSearching.value = true),
  help: () => (showsKeys.value = true),
  close: () => (isSearching.value = showsKeys.value = false),
})

onMounted(() => {
  void roster.refresh()
  roster.listen()
})
onBeforeUnmount(() => roster.stop())

const unknown = computed(() => roster.loaded && label.value !== '' && !instance.value)
const isShown = computed(() => !page.value || !needsInstance(page.value) || instance.value !== undefined)
</script>

<template>
  <ConfigProvider :theme="controlTheme(dark)">
    <div class="frame">
      <FrameHead
        class="no-print head"
        :dark="dark"
        @theme="chosen = dark ? 'light' : 'dark'"
        @search="isSearching = true"
        @keys="showsKeys = true"
      />
      <RosterRail class="no-print rail" />
      <div class="body">
        <TimeRuler v-if="page?.usesTime && instance" class="no-print" />
        <main>
          <div v-if="unknown" class="sheet">
            <h2>There is no instance “{{ label }}”</h2>
            <p>It may have another label now. Choose one from the roster at the side.</p>
          </div>
          <template v-else-if="isShown">
            <div v-if="instance?.problem" class="sheet failing" role="alert">
              <h2>No figures from {{ instance.label }}</h2>
              <p class="detail">{{ instance.problem.message }}</p>
              <p class="detail muted">{{ instance.problem.remedy }}</p>
              <p class="muted">What was collected before is shown below. Collection resumes by itself.</p>
            </div>
            <RouterView />
          </template>
          <PageState v-else :loaded="{ state: 'loading' }" />
        </main>
      </div>
    </div>
    <PagePalette v-model:open="isSearching" />
    <KeySheet v-model:open="showsKeys" />
  </ConfigProvider>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template: auto 1fr / auto 1fr;
  height: 100%;
}
.head {
  grid-column: 1 / -1;
}
.body {
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
}
main {
  flex: 1;
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
