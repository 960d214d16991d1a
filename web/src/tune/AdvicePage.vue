<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref, type Component } from 'vue'
import { useRoute } from 'vue-router'
import { answer, api, Failure, type Problem, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useNews } from '../composables/useNews'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import PageState from '../ui/PageState.vue'
import { useSession } from '../stores/session'
import EffectPanel from './EffectPanel.vue'
import MissingIndexDetails from './MissingIndexDetails.vue'
import StatementToRun from './StatementToRun.vue'
import UnusedIndexDetails from './UnusedIndexDetails.vue'
import { STATES, VERDICTS } from './verdicts'
import ConfirmButton from '../ui/ConfirmButton.vue'

const { instance } = useInstance()
const news = useNews('findings')
const session = useSession()
const route = useRoute()
const path = computed(() => ({
  instance_id: instance.value?.instance_id ?? 0,
  advice_id: String(route.params.advice),
}))
const { loaded, data, reload } = useLoaded(
  () => `${path.value.instance_id} ${path.value.advice_id}`,
  news,
  () =>
    answer(api.GET('/api/v1/instances/{instance_id}/advice/{advice_id}', { params: { path: path.value } })),
)
const advice = computed(() => data.value?.advice ?? null)
/** What each kind of advice tells of itself. */
const DETAILS: Record<Schemas['AdviceKind'], Component> = {
  missing_index: MissingIndexDetails,
  unused_index: UnusedIndexDetails,
}
const onReplica = computed(() => data.value?.on_replica ?? false)
const mayWrite = computed(() => session.current?.role !== 'reader')

const busy = ref(false)
const trouble = ref<Problem | null>(null)
async function act(action: 'applied' | 'set-aside' | 'reopen'): Promise<void> {
  busy.value = true
  trouble.value = null
  const params = { path: path.value }
  try {
    if (action === 'applied')
      await answer(
        api.POST('/api/v1/instances/{instance_id}/advice/{advice_id}/applied', { params, body: {} }),
      )
    else if (action === 'set-aside')
      await answer(api.POST('/api/v1/instances/{instance_id}/advice/{advice_id}/set-aside', { params }))
    else await answer(api.POST('/api/v1/instances/{instance_id}/advice/{advice_id}/reopen', { params }))
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    trouble.value = error.problem
  } finally {
    busy.value = false
    await reload()
  }
}
</script>

<template>
  <div class="page-head">
    <h1>{{ advice?.title ?? 'Recommendation' }}</h1>
    <RouterLink :to="{ name: 'advice-book', query: { last: route.query.last } }">← advice book</RouterLink>
    <template v-if="advice">
      <code>{{ advice.subject }}</code>
      <span class="state" data-test="state">{{ STATES[advice.state] }}</span>
      <span v-if="mayWrite" class="actions no-print">
        <template v-if="advice.state === 'open'">
          <Button type="primary" :loading="busy" @click="act('applied')">Mark as applied</Button>
          <ConfirmButton
            lost="This recommendation is not made again until it is reopened."
            action="Dismiss"
            :disabled="busy"
            @confirm="act('set-aside')"
          />
        </template>
        <ConfirmButton
          v-else-if="advice.state !== 'lapsed'"
          lost="Its measured effect is deleted."
          action="Reopen"
          :disabled="busy"
          @confirm="act('reopen')"
        />
      </span>
    </template>
  </div>
  <ProblemNote v-if="trouble" :problem="trouble" @retry="trouble = null" />
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="data && advice">
    <p v-if="advice.state === 'lapsed'" class="sheet" role="status">
      This recommendation is no longer valid: its evidence has changed since. There is nothing to do.
    </p>
    <p v-if="advice.withheld_at" class="sheet" role="status" data-test="withheld">
      The same would be recommended again, last on {{ clock(advice.withheld_at, new Date()) }}, and is not: it
      was measured as {{ advice.effect ? VERDICTS[advice.effect.verdict] : 'useless' }}, and the workload is
      as it was then. It is recommended again once it would save twice as much, or other statements need it.
    </p>
    <div class="columns">
      <section class="sheet">
        <h2>Effect</h2>
        <EffectPanel :advice="advice" />
      </section>
      <component :is="DETAILS[advice.kind]" :details="data.details" :texts="data.family_texts">
        From {{ clock(advice.evidence.from, new Date()) }} to {{ clock(advice.evidence.to, new Date()) }}.
      </component>
    </div>
    <section v-if="advice.state === 'open' || advice.state === 'set_aside'" class="sheet">
      <h2>The statement to run{{ onReplica ? ' on the primary' : '' }}</h2>
      <p v-if="onReplica" class="replica" data-test="on-replica">
        {{ instance?.label }} is a replica: it takes its tables and indexes from its primary. Run the
        statement there; what is changed arrives here by itself, and its effect is measured here.
      </p>
      <StatementToRun :pieces="data.statement" />
    </section>
  </template>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 0 12px;
  align-items: stretch;
}
.state {
  border: 1px solid var(--plum);
  padding: 0 8px;
}
.actions {
  margin-left: auto;
  display: flex;
  gap: 8px;
}
.replica {
  border-left: 4px solid var(--plum);
  padding-left: 8px;
}
</style>
