<script setup lang="ts">
import { Button } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import { ago, clock, counted, seconds } from '../format'
import HoldUpLanes from './HoldUpLanes.vue'
import { whose } from './lanes'

/** One hold-up in a line and, unfolded, with its lanes and what would keep it from coming back. */
defineProps<{ holdUp: Schemas['HoldUp']; isOpen: boolean; mayEnd: boolean; areLooksKept: boolean }>()
const emit = defineEmits<{ turn: []; end: [] }>()
const told = (one: Schemas['HoldUp']) =>
  one.is_circle
    ? `${counted(one.most_waiting, 'session')} waited for each other`
    : `held up ${counted(one.most_waiting, 'session')}${one.depth > 1 ? `, ${one.depth} deep` : ''}`
</script>

<template>
  <article data-test="hold-ups">
    <div class="head">
      <button
        type="button"
        :aria-expanded="isOpen"
        :title="isOpen ? 'Fold' : 'Show who waited'"
        @click="emit('turn')"
      >
        <span class="mark" aria-hidden="true">{{ isOpen ? '▾' : '▸' }}</span>
        <b>{{ holdUp.is_prepared ? holdUp.holder.program : whose(holdUp.holder) }}</b>
        {{ told(holdUp) }}
      </button>
      <span v-if="holdUp.goes_on" class="goes-on">goes on, since {{ clock(holdUp.from, new Date()) }}</span>
      <span v-else class="muted"
        >{{ clock(holdUp.from, new Date()) }} to {{ clock(holdUp.to, new Date()) }}</span
      >
      <span class="lost">{{ seconds(holdUp.lost_seconds) }} lost</span>
      <RouterLink
        v-if="areLooksKept"
        :to="{ name: 'sessions', query: { at: holdUp.to, lines: 'yes' } }"
        title="All sessions at the last look that saw it"
        >sessions then</RouterLink
      >
      <Button v-if="mayEnd && holdUp.goes_on && !holdUp.is_prepared" size="small" @click="emit('end')"
        >End the holder …</Button
      >
      <span v-else-if="holdUp.goes_on && !holdUp.is_prepared" class="muted small"
        >an administrator may end the holder</span
      >
    </div>
    <template v-if="isOpen">
      <p v-if="holdUp.transaction_started_at || holdUp.statement" class="facts">
        <template v-if="holdUp.transaction_started_at"
          >Its transaction began {{ ago(holdUp.transaction_started_at, new Date()) }}.
        </template>
        <RouterLink
          v-if="holdUp.family_id"
          class="mono"
          :to="{ name: 'family', params: { family: holdUp.family_id }, query: $route.query }"
          >{{ holdUp.statement }}</RouterLink
        >
      </p>
      <HoldUpLanes :hold-up="holdUp" />
      <p v-if="holdUp.unasked" class="muted small">
        {{ counted(holdUp.unasked, 'session') }} more waited at once than the server is asked about: whom they
        waited for is taken from others who waited for the same lock.
      </p>
      <dl v-if="holdUp.repairs.length" class="repairs">
        <template v-for="repair in holdUp.repairs" :key="repair.pattern">
          <dt>{{ repair.evidence }}</dt>
          <dd>{{ repair.step }}</dd>
        </template>
      </dl>
    </template>
  </article>
</template>

<style scoped>
article + article {
  border-top: 1px solid var(--rule);
  margin-top: 8px;
  padding-top: 8px;
}
.mark {
  display: inline-block;
  width: 16px;
}
.head {
  display: flex;
  gap: 14px;
  align-items: baseline;
}
.head button:first-child {
  border: 0;
  padding: 0;
  min-height: 24px;
  background: none;
  font: inherit;
  color: inherit;
  text-align: left;
  cursor: pointer;
}
.goes-on {
  color: var(--plum);
  font-weight: 700;
}
.lost {
  margin-left: auto;
}
.facts {
  margin: 2px 0 8px;
}
.repairs {
  margin: 6px 0 0;
  padding: 6px 10px;
  border-left: 3px solid var(--plum);
}
dt {
  font-weight: 700;
}
dd {
  margin: 0;
}
dd + dt {
  margin-top: 6px;
}
.small {
  font-size: 12.5px;
}
</style>
