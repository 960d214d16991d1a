<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { count, milliseconds, percent } from '../format'
import { guides, heaviest, isTimed, shareOf, WHY_WRONG } from './planRows'

/** A plan as a tree in text: what each step takes for itself, and how many rows were expected and came. */
const props = defineProps<{ tree: Schemas['PlanTree'] }>()
const steps = computed(() => props.tree.steps)
const timed = computed(() => isTimed(steps.value))
const isRun = computed(() => steps.value.some((step) => step.rows != null))
const hasPages = computed(() => steps.value.some((step) => step.hit_pages != null))
const lead = computed(() => guides(steps.value))
const shares = computed(() => steps.value.map((step) => shareOf(step, timed.value)))
const heavy = computed(() => heaviest(shares.value))
const wrong = computed(() => new Map(props.tree.wrong.map((one) => [one.step, one])))
</script>

<template>
  <div class="scrolls">
    <table class="figures plan">
      <thead>
        <tr>
          <th>step</th>
          <th class="share">{{ timed ? 'own share of time' : 'own share of cost' }}</th>
          <th class="number">estimated rows</th>
          <th v-if="isRun" class="number">actual rows</th>
          <th v-if="isRun" class="number">loops</th>
          <th v-if="timed" class="number" title="in all its runs, with the steps below">time</th>
          <th v-if="hasPages" class="number" title="with the steps below">pages read</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(step, at) in steps" :key="at" :class="{ unused: step.loops === 0 }">
          <td class="mono">
            <span class="lead" aria-hidden="true">{{ lead[at] }}</span><span v-if="step.role" class="muted"
              >{{ step.role }}: </span
            ><b v-if="heavy.has(at)">{{ step.name }}</b
            ><template v-else>{{ step.name }}</template
            ><span v-if="step.loops === 0" class="muted"> never run</span>
            <div
              v-for="detail in step.details"
              :key="detail.name"
              class="muted detail"
              :style="{ paddingLeft: `${step.depth * 3 + 2}ch` }"
            >
              {{ detail.name }}: {{ detail.text }}
            </div>
          </td>
          <td class="share">
            <div class="bar" :title="`${percent(shares[at])} of the whole plan`">
              <span class="ground"
                ><i :class="{ heavy: heavy.has(at) }" :style="{ width: `${(shares[at] ?? 0) * 100}%` }"></i
              ></span>
              {{ percent(shares[at]) }}
            </div>
          </td>
          <td class="number">{{ count(step.expected_rows) }}</td>
          <td v-if="isRun" class="number">
            <b v-if="wrong.has(at)" class="wrong">{{ count(step.rows) }}</b><template v-else>{{
              step.loops === 0 ? '–' : count(step.rows)
            }}</template>
          </td>
          <td v-if="isRun" class="number">{{ count(step.loops) }}</td>
          <td v-if="timed" class="number">{{ step.loops === 0 ? '–' : milliseconds(step.ms) }}</td>
          <td v-if="hasPages" class="number">{{ count(step.read_pages) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
  <section v-if="tree.wrong.length" class="first-wrong" data-test="first-wrong">
    <h3>Where the estimate went wrong first</h3>
    <ul>
      <li v-for="one in tree.wrong" :key="one.step">
        <span class="mono">{{ steps[one.step]?.name }}</span>: {{ count(one.expected_rows) }} rows estimated,
        {{ count(one.rows) }} actual.
        <span class="muted">{{ WHY_WRONG[one.why] }}</span>
      </li>
    </ul>
  </section>
  <p v-if="tree.execution_ms != null" class="muted">
    It ran for {{ milliseconds(tree.execution_ms)
    }}<template v-if="tree.planning_ms != null"
      >, after {{ milliseconds(tree.planning_ms) }} of planning</template
    >.
  </p>
</template>

<style scoped>
.scrolls {
  overflow-x: auto;
}
.plan td {
  vertical-align: top;
}
.plan td.mono {
  line-height: 1.45;
}
.lead {
  white-space: pre;
  color: var(--muted);
}
.detail {
  overflow-wrap: anywhere;
}
.unused {
  color: var(--muted);
}
.share {
  width: 170px;
}
.bar {
  display: flex;
  align-items: center;
  justify-content: space-between;
  white-space: nowrap;
}
.ground {
  width: 100px;
  height: 12px;
  background: var(--sunk);
}
.ground i {
  display: block;
  height: 100%;
  background: var(--hatch);
}
.ground i.heavy {
  background: var(--plum);
}
.wrong {
  color: var(--warn);
}
h3 {
  font-size: 13px;
  margin: 10px 0 4px;
}
ul {
  margin: 0;
  padding-left: 18px;
}
</style>
