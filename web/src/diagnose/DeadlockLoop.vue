<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'

/** A deadlock as the closed loop that it is: each session waits for what the next one holds. */
const props = defineProps<{ deadlock: Schemas['Deadlock'] }>()
const SIZE = 132
const RADIUS = 46
const DOT = 15
/** In the order of the loop: from each to the one that holds what it wants. */
const loop = computed(() => {
  const { circle } = props.deadlock
  const byProcess = new Map(circle.map((party) => [party.process, party]))
  const order: Schemas['DeadlockParty'][] = []
  let at = circle[0]
  while (at && !order.includes(at)) {
    order.push(at)
    at = byProcess.get(at.held_by)
  }
  return order
})
const place = (at: number) => {
  const angle = (at / Math.max(loop.value.length, 1)) * 2 * Math.PI - Math.PI / 2
  return { x: SIZE / 2 + RADIUS * Math.cos(angle), y: SIZE / 2 + RADIUS * Math.sin(angle) }
}
const dots = computed(() =>
  loop.value.map((party, at) => ({ party, ...place(at), isEnded: party.process === props.deadlock.ended })),
)
/** An arc from the edge of one to the edge of the next, along the ring. */
const arcs = computed(() =>
  loop.value.map((_, at) => {
    const gap = (DOT + 3) / RADIUS
    const step = (2 * Math.PI) / loop.value.length
    const angle = (share: number) => at * step - Math.PI / 2 + share
    const end = (share: number) =>
      `${(SIZE / 2 + RADIUS * Math.cos(angle(share))).toFixed(1)} ${(SIZE / 2 + RADIUS * Math.sin(angle(share))).toFixed(1)}`
    const isLong = step - 2 * gap > Math.PI ? 1 : 0
    return `M${end(gap)}A${RADIUS} ${RADIUS} 0 ${isLong} 1 ${end(step - gap - 0.08)}`
  }),
)
</script>

<template>
  <div class="deadlock">
    <svg
      v-if="loop.length > 1"
      :width="SIZE"
      :height="SIZE"
      role="img"
      :aria-label="`${loop.length} sessions that waited for each other`"
    >
      <defs>
        <marker
          id="waits-for"
          viewBox="0 0 8 8"
          refX="6"
          refY="4"
          markerWidth="7"
          markerHeight="7"
          orient="auto"
        >
          <path d="M0 0L8 4L0 8z" fill="var(--ink)" />
        </marker>
      </defs>
      <path
        v-for="(arc, at) in arcs"
        :key="at"
        :d="arc"
        fill="none"
        stroke="var(--ink)"
        marker-end="url(#waits-for)"
      />
      <g v-for="(dot, at) in dots" :key="dot.party.process">
        <circle
          :cx="dot.x"
          :cy="dot.y"
          :r="DOT"
          :fill="dot.isEnded ? 'var(--plum)' : 'var(--sheet)'"
          stroke="var(--plum)"
        />
        <text
          :x="dot.x"
          :y="dot.y + 5"
          text-anchor="middle"
          :fill="dot.isEnded ? 'var(--sheet)' : 'var(--ink)'"
        >
          {{ at + 1 }}
        </text>
      </g>
    </svg>
    <ol v-if="loop.length > 1">
      <li v-for="{ party, isEnded } in dots" :key="party.process">
        process {{ party.process }} wanted {{ party.wanted }}, held by process {{ party.held_by }}
        <b v-if="isEnded">the server ended this one</b>
        <div class="mono one-line" :title="party.statement">{{ party.statement }}</div>
      </li>
    </ol>
    <p v-else class="mono whole">{{ deadlock.detail }}</p>
  </div>
</template>

<style scoped>
.deadlock {
  display: flex;
  gap: 18px;
  align-items: center;
  min-width: 0;
}
svg {
  flex: none;
}
text {
  font-size: 13px;
  font-weight: 700;
}
ol {
  margin: 0;
  padding-left: 18px;
  min-width: 0;
  flex: 1;
}
li + li {
  margin-top: 4px;
}
.whole {
  margin: 0;
  white-space: pre-wrap;
}
</style>
