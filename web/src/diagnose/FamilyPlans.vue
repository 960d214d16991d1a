<script setup lang="ts">
import { computed } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { clock, count, counted, milliseconds, timesAs } from '../format'
import PageState from '../ui/PageState.vue'
import PlanDifference from './PlanDifference.vue'
import PlanTree from './PlanTree.vue'

/** Plans of one statement: as it was run, where the log has them, as the server would run it, and what another one brought. */
const props = defineProps<{ family: Schemas['FamilyFigures'] }>()
/** The newest two plans that differ in more than values, as one tree. */
const twoPlans = computed(() => {
  const [now, before] = props.family.plans.flatMap((plan) => plan.text ?? [])
  return now && before ? { first_plan: before, second_plan: now } : null
})
const {
  loaded: comparing,
  data: difference,
  reload: compareAgain,
} = useLoaded(
  () => JSON.stringify(twoPlans.value),
  () => 0,
  async () => twoPlans.value && answer(api.POST('/api/v1/plans/read', { body: twoPlans.value })),
)
const moment = (at: string) => clock(at, new Date())
const stretch = (from: string, to: string) =>
  from === to ? `at ${moment(to)}` : `from ${moment(from)} to ${moment(to)}`
const WORDS: Record<Schemas['PlanVerdict'], string> = {
  worse: 'It is worse',
  better: 'It is better',
  alike: 'It makes no difference',
}
</script>

<template>
  <h2>Plan</h2>
  <p v-if="family.plan_changed" class="verdict" :class="family.plan_changed.verdict" data-test="plan-changed">
    Another plan since {{ moment(family.plan_changed.at) }}. {{ WORDS[family.plan_changed.verdict] }}: a call
    takes {{ milliseconds(family.plan_changed.now_ms) }}, {{ timesAs(family.plan_changed.ratio) }} as with the
    plan before ({{ milliseconds(family.plan_changed.before_ms) }}).
  </p>
  <template v-if="difference">
    <h3>What differs between the newest two</h3>
    <PlanDifference :read="difference" :names="['before', 'now']" />
  </template>
  <PageState v-else-if="twoPlans" :loaded="comparing" @retry="compareAgain" />
  <section v-for="plan in family.logged_plans" :key="plan.first_at + plan.text" data-test="logged-plan">
    <p class="seen">
      In the log {{ stretch(plan.first_at, plan.last_at) }}, in {{ plan.database }}:
      {{ counted(plan.times, 'execution') }}, {{ milliseconds(plan.mean_ms) }} on average, at most
      {{ milliseconds(plan.most_ms) }}
    </p>
    <p class="muted">
      The last execution that was logged. The server logs the long ones only, by
      auto_explain.log_min_duration.{{
        plan.is_planned
          ? ''
          : ' For certain values the server chose this plan; without values it makes another one.'
      }}
    </p>
    <PlanTree v-if="plan.tree" :tree="plan.tree" />
    <details>
      <summary>The plan as text</summary>
      <pre class="plan">{{ plan.text }}</pre>
    </details>
  </section>
  <p v-if="family.plans.length" class="muted">
    For any values of the parameters, made without running the statement. With certain values the server may
    choose another one.
  </p>
  <template v-for="plan in family.plans" :key="plan.first_read_at + (plan.text ?? '')">
    <p class="seen">
      Seen {{ stretch(plan.first_read_at, plan.read_at) }}{{ plan.database ? `, in ${plan.database}` : ''
      }}<template v-if="plan.calls != null"
        >: {{ count(plan.calls) }} calls while it was in use<template v-if="plan.mean_ms != null"
          >, {{ milliseconds(plan.mean_ms) }} each</template
        ></template
      >
    </p>
    <PlanTree v-if="plan.tree" :tree="plan.tree" />
    <pre v-else-if="plan.text" class="plan">{{ plan.text }}</pre>
    <p v-else>{{ plan.absent }}</p>
    <details v-if="plan.tree && plan.text">
      <summary>The plan as the server writes it</summary>
      <pre class="plan">{{ plan.text }}</pre>
    </details>
  </template>
  <p v-if="!family.plans.length && !family.logged_plans.length" class="muted">
    Not read yet: plans are read for the costliest statements, a few at a time.
  </p>
</template>

<style scoped>
.seen {
  margin: 14px 0 4px;
  font-weight: 600;
}
p.muted {
  margin: 10px 0 4px;
}
.verdict {
  font-weight: 600;
}
.verdict.worse {
  color: var(--warn);
}
.plan {
  margin: 0 0 10px;
  overflow-x: auto;
  line-height: 1.5;
}
</style>
