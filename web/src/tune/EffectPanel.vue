<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { clock, counted, milliseconds, number, percent } from '../format'
import { predicted, savedTime, shareOfPrediction, VERDICTS } from './verdicts'

/** Predicted against measured effect: two bars on one scale, the measured one with its interval. */
const props = defineProps<{ advice: Schemas['AdviceFigures'] }>()
const WIDTH = 420
const effect = computed(() => props.advice.effect ?? null)
const saved = computed(() => effect.value?.saved_seconds_per_day ?? null)
const scale = computed(() => {
  const all = [props.advice.predicted_seconds_per_day, saved.value?.high ?? 0, saved.value?.low ?? 0]
  const low = Math.min(0, ...all)
  const high = Math.max(...all, 1)
  return (value: number) => 74 + ((value - low) / (high - low)) * (WIDTH - 84)
})
</script>

<template>
  <div>
    <p v-if="effect" class="verdict" data-test="verdict">
      Verdict: <b :class="effect.verdict">{{ VERDICTS[effect.verdict] }}</b>
      <template v-if="effect.verdict === 'too_early'">
        – {{ effect.after_buckets }} of {{ effect.needed_buckets }} periods since the change have calls
      </template>
    </p>
    <p v-else-if="advice.state === 'applied'" class="muted">
      The effect is measured once there are figures after the change.
    </p>
    <svg
      v-if="advice.predicted_seconds_per_day > 0"
      :viewBox="`0 0 ${WIDTH} 62`"
      :width="WIDTH"
      role="img"
      aria-label="Predicted and measured effect"
    >
      <text x="0" y="18">predicted</text>
      <rect
        :x="Math.min(scale(0), scale(advice.predicted_seconds_per_day))"
        y="6"
        :width="Math.abs(scale(advice.predicted_seconds_per_day) - scale(0))"
        height="16"
        fill="none"
        stroke="var(--plum)"
        stroke-width="1.5"
      />
      <template v-if="saved">
        <text x="0" y="46">measured</text>
        <rect
          :x="Math.min(scale(0), scale(saved.value))"
          y="34"
          :width="Math.max(1, Math.abs(scale(saved.value) - scale(0)))"
          height="16"
          fill="var(--plum)"
        />
        <path
          :d="`M${scale(saved.low)} 42H${scale(saved.high)}M${scale(saved.low)} 37V47M${scale(saved.high)} 37V47`"
          stroke="var(--ink)"
          stroke-width="1.5"
        />
      </template>
      <line :x1="scale(0)" :x2="scale(0)" y1="2" y2="56" stroke="var(--ink)" />
    </svg>
    <dl>
      <dt>predicted</dt>
      <dd>{{ predicted(advice) }}</dd>
      <template v-if="saved">
        <dt>measured</dt>
        <dd data-test="measured">
          {{ savedTime(saved.value) }} saved, between {{ number(saved.low / 86_400) }} and
          {{ number(saved.high / 86_400) }} with 95 % certainty<template
            v-if="advice.predicted_seconds_per_day > 0"
            >: {{ percent(shareOfPrediction(effect, advice.predicted_seconds_per_day)) }} of what was
            predicted</template
          >
        </dd>
      </template>
      <template v-if="effect?.before_ms && effect.after_ms">
        <dt>time per call</dt>
        <dd>{{ milliseconds(effect.before_ms) }} before, {{ milliseconds(effect.after_ms) }} after</dd>
      </template>
      <template v-if="effect?.waiting">
        <dt>measured on</dt>
        <dd>
          {{ counted(effect.families, 'statement') }}; {{ number(effect.waiting) }} more ran too rarely so far
        </dd>
      </template>
      <template v-if="effect && saved">
        <dt>compared with</dt>
        <dd v-if="effect.controls === 0">
          nothing: all statements may have been touched, so the whole server may have drifted unseen
        </dd>
        <dd v-else>
          {{ counted(effect.controls, 'statement') }} that no recommendation touched: the whole server changed
          by a factor of {{ number(effect.drift)
          }}<template v-if="effect.drift_between">
            ({{ number(effect.drift_between.low) }} to {{ number(effect.drift_between.high) }})</template
          >
          meanwhile, which is taken out
        </dd>
      </template>
      <template v-if="effect?.never_read">
        <dt>index</dt>
        <dd>
          The server has not read it once since it was made: whatever became of the statements, something else
          did it
        </dd>
      </template>
      <template v-if="effect?.together_with.length">
        <dt>together with</dt>
        <dd>
          <template v-for="(other, place) in effect.together_with" :key="other"
            ><template v-if="place">, </template
            ><RouterLink :to="{ name: 'advice', params: { advice: other }, query: $route.query }"
              >recommendation {{ other }}</RouterLink
            ></template
          >, carried out at the same time for the same statements: their effects cannot be told apart
        </dd>
      </template>
      <template v-if="effect?.meanwhile.length">
        <dt>meanwhile</dt>
        <dd>
          {{ effect.meanwhile.join('; ') }}: this may have moved the statements as well, and cannot be taken
          out
        </dd>
      </template>
      <template v-if="effect?.after_until">
        <dt>measured until</dt>
        <dd>{{ clock(effect.after_until, new Date()) }}, when another recommendation was carried out</dd>
      </template>
      <template v-if="advice.applied_at">
        <dt>applied</dt>
        <dd>
          {{ clock(advice.applied_at, new Date()) }},
          {{
            advice.applied_by === 'collector'
              ? 'found by Hurnix in the catalog'
              : `marked by ${advice.applied_by}`
          }}
        </dd>
      </template>
      <template v-if="effect?.measured_at">
        <dt>last measured</dt>
        <dd>{{ clock(effect.measured_at, new Date()) }}, {{ number(effect.after_buckets) }} periods</dd>
      </template>
    </dl>
  </div>
</template>

<style scoped>
svg {
  max-width: 100%;
  height: auto;
}
text {
  font-size: 13px;
  fill: var(--ink);
}
.verdict b {
  font-size: 16px;
}
.confirmed {
  color: var(--plum);
}
.harmful {
  color: var(--warn);
}
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 2px 14px;
  margin: 6px 0 0;
}
dt {
  color: var(--muted);
}
dd {
  margin: 0;
}
</style>
