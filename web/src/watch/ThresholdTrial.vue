<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import type { Loaded } from '../composables/useLoaded'
import { inUnit } from '../diagnose/measured'
import { clock, counted, number, seconds } from '../format'
import PastStrip from '../pictures/PastStrip.vue'

/** What a threshold would have raised in the time that is kept. */
const props = defineProps<{ loaded: Loaded<Schemas['ThresholdTrial'] | null>; value: number }>()
const emit = defineEmits<{ use: [value: number] }>()
const trial = computed(() => (props.loaded.state === 'loading' ? null : (props.loaded.data ?? null)))
const drawn = computed(() => trial.value?.objects.filter((object) => object.cells.length) ?? [])
const aWeek = computed(() => (trial.value?.weeks ? trial.value.raised / trial.value.weeks : 0))
const others = computed(() => (trial.value?.objects.length ?? 0) - drawn.value.length)
const told = computed(() => {
  const { span, instances_tried: tried, instances_meant: meant } = trial.value!
  const of =
    tried < meant ? `the first ${tried} of ${counted(meant, 'instance')}` : counted(tried, 'instance')
  return `${clock(span.from, new Date(), false)} to ${clock(span.to, new Date(), false)}, ${of}`
})
</script>

<template>
  <div class="trial" data-test="trial" aria-live="polite">
    <p v-if="loaded.state === 'failed'" role="status">
      The past cannot be shown: {{ loaded.problem.detail }}
    </p>
    <p v-else-if="!trial" class="muted">The past is gone through …</p>
    <template v-else-if="trial.objects.length">
      <p>
        It would have raised <b>{{ counted(trial.raised, 'alarm') }}</b>
        <template v-if="trial.raised">, {{ number(aWeek) }} a week on each instance</template>
        <span class="muted"> ({{ told }})</span>.
        <template v-if="trial.one_a_week != null">
          About one a week: <b>{{ inUnit(trial.one_a_week, trial.unit) }}</b>
          <Button
            v-if="trial.one_a_week !== value"
            size="small"
            data-test="use"
            @click="emit('use', trial.one_a_week)"
            >Use</Button
          >
        </template>
      </p>
      <div v-for="object in drawn" :key="`${object.instance} ${object.object}`" class="object">
        <div class="name">
          {{ object.instance }} <span class="muted">{{ object.object }}</span>
        </div>
        <PastStrip
          :cells="object.cells"
          :from="trial.span.from"
          :to="trial.span.to"
          :value="value"
          :label="`${object.instance} ${object.object}: ${counted(object.raised, 'alarm')}`"
        />
        <div class="figures">
          {{ counted(object.raised, 'alarm') }}
          <div v-if="object.raised" class="muted">{{ seconds(object.beyond_seconds) }}</div>
        </div>
      </div>
      <p v-if="others > 0" class="muted">
        {{ counted(others, 'more object') }} with fewer alarms {{ others === 1 ? 'is' : 'are' }} counted and
        not drawn.
      </p>
      <p class="muted">
        Means of {{ seconds(trial.objects[0]!.bucket_seconds) }} are judged. A column shows the one that is
        furthest on the side of the value; inked is what would have been an alarm.
      </p>
    </template>
    <p v-else class="muted">Nothing of this figure was collected in the time that is kept.</p>
  </div>
</template>

<style scoped>
.trial {
  margin-top: 12px;
  border-top: 1px solid var(--rule);
  padding-top: 10px;
  min-height: 220px;
}
.trial p {
  margin: 0 0 8px;
}
.object {
  display: grid;
  grid-template-columns: 150px 1fr 90px;
  gap: 10px;
  align-items: center;
  margin-bottom: 6px;
}
.name {
  overflow-wrap: anywhere;
  font-size: 13px;
}
.figures {
  text-align: right;
  font-size: 12.5px;
}
</style>
