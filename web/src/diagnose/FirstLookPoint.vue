<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import ActionDialog from '../actions/ActionDialog.vue'
import type { Schemas } from '../api/client'
import { clock } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import SqlText from '../pictures/SqlText.vue'
import { useSession } from '../stores/session'

/** One thing that a check found, with what to do about it. */
const props = defineProps<{ point: Schemas['PointFigures']; instanceId: number }>()
const session = useSession()
const asking = ref(false)
/** What Hurnix does itself, for whoever may have it done. */
const offer = computed(() => (session.current?.role === 'administrator' ? props.point.action : null))
const route = useRoute()
const PAGES: Record<string, { name: string; says: string }> = {
  instances: { name: 'instances', says: 'Instances' },
  figures: { name: 'figures', says: 'What it tells' },
  load: { name: 'load', says: 'Load' },
  sessions: { name: 'sessions', says: 'Sessions' },
  statements: { name: 'statements', says: 'Statements' },
  family: { name: 'family', says: 'the statement' },
  advice: { name: 'advice', says: 'the advice' },
}
/** Where more is shown. */
const page = computed(() => {
  const { page, id } = props.point
  const known = page ? PAGES[page] : undefined
  if (!known) return null
  const more: Record<string, string> = id && (page === 'family' || page === 'advice') ? { [page]: id } : {}
  const params = known.name === 'instances' ? {} : { instance: String(route.params.instance), ...more }
  return { says: known.says, to: { name: known.name, params } }
})
</script>

<template>
  <li>
    <HealthMark :health="point.verdict" class="mark" />
    <div>
      <b v-if="point.verdict !== 'no_data'">{{ point.text }}</b>
      <template v-else>{{ point.text }}</template>
      <span v-if="point.since" class="muted"> Since {{ clock(point.since, new Date()) }}.</span>
      <p class="step">
        {{ point.step }}
        <RouterLink v-if="page" :to="page.to" class="no-print">See {{ page.says }}</RouterLink>
      </p>
      <SqlText v-if="point.statement" :text="point.statement" name="the statement to run" />
      <template v-if="offer">
        <Button size="small" class="no-print" @click="asking = true">{{ offer.title }} …</Button>
        <ActionDialog v-if="asking" :instance-id="instanceId" :asked="offer.asked" @close="asking = false" />
      </template>
    </div>
  </li>
</template>

<style scoped>
li {
  display: grid;
  grid-template-columns: 72px 1fr;
  gap: 8px;
  align-items: baseline;
  break-inside: avoid;
}
li > div {
  min-width: 0;
  overflow-wrap: anywhere;
}
.step {
  margin: 1px 0 2px;
}
</style>
