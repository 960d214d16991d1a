<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import ActionDialog from '../actions/ActionDialog.vue'
import type { Schemas } from '../api/client'
import { clock } from '../format'
import { needsInstance, pageNamed } from '../pages'
import HealthMark from '../pictures/HealthMark.vue'
import StatementText from '../ui/StatementText.vue'
import { isSentence } from '../ui/statementText'
import { useSession } from '../stores/session'

/** One thing that a check found, with what to do about it. */
const props = defineProps<{ point: Schemas['PointFigures']; instanceId: number }>()
const session = useSession()
const asking = ref(false)
/** What Hurnix does itself, for whoever may have it done. */
const offer = computed(() => (session.current?.role === 'administrator' ? props.point.action : null))
const route = useRoute()
/** Where more is shown. */
const page = computed(() => {
  const { page: name, id } = props.point
  const page = pageNamed(name)
  if (!page) return null
  const more: Record<string, string> = id && name ? { [name]: id } : {}
  const params = needsInstance(page) ? { instance: String(route.params.instance), ...more } : {}
  return { title: page.title, to: { name: page.name, params } }
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
        <RouterLink v-if="page" :to="page.to" class="no-print">See {{ page.title }}</RouterLink>
      </p>
      <p v-if="point.statement && isSentence(point.statement)">{{ point.statement }}</p>
      <StatementText v-else-if="point.statement" :text="point.statement" name="the statement to run" />
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
