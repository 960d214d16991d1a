<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { clock, counted, seconds } from '../format'
import { lanes, placed, whose } from './lanes'

/**
 * One hold-up: its holder, and in line behind it those who wait, as long as they waited; time runs to the right. Whoever
 * waits and holds something itself has its own waiters set in below it.
 */
const props = defineProps<{ holdUp: Schemas['HoldUp'] }>()
const FIRST = 12
const isUnfolded = ref(false)
const all = computed(() => lanes(props.holdUp))
const shown = computed(() => (isUnfolded.value ? all.value : all.value.slice(0, FIRST)))
const more = computed(() => all.value.length + props.holdUp.further_waits - shown.value.length)
const span = computed(() => ({ from: Date.parse(props.holdUp.from), to: Date.parse(props.holdUp.to) }))
function bar(from: string, to: string): Record<string, string> {
  const { left, width } = placed(from, to, span.value)
  return { left: `${Math.min(left, 99.4)}%`, width: `${width}%` }
}
const lock = ({ mode, kind, table }: Schemas['LockWait']) =>
  [mode, kind === 'relation' ? '' : kind, table].filter(Boolean).join(' ')
const isIdle = computed(() => props.holdUp.idle_share > 0.5)
</script>

<template>
  <div class="lanes">
    <div class="row">
      <div class="who">
        <b>{{ holdUp.is_prepared ? holdUp.holder.program : `process ${holdUp.holder.process}` }}</b>
        {{ holdUp.is_prepared ? holdUp.holder.account : whose(holdUp.holder) }}
      </div>
      <div class="time">
        <i
          :style="bar(holdUp.from, holdUp.to)"
          :class="isIdle ? 'idle' : 'holder'"
          :title="isIdle ? 'It holds the lock, idle in its transaction.' : 'It holds the lock and works.'"
        />
      </div>
      <div class="end">{{ isIdle ? 'idle in transaction' : 'works' }}</div>
    </div>
    <div v-for="({ wait, depth, holds }, at) in shown" :key="at" class="row">
      <div class="who" :style="{ paddingLeft: `${depth * 14}px` }">
        <span :class="{ holds }">process {{ wait.session.process }}</span>
        <span class="muted whose">{{ whose(wait.session) }}</span>
      </div>
      <div class="time">
        <i
          :style="bar(wait.from, wait.to)"
          :class="wait.is_queued ? 'queued' : 'waits'"
          :title="`${lock(wait)}${wait.is_queued ? `; it waits for its turn only, behind process ${wait.behind}` : ''}`"
        />
      </div>
      <div class="end">
        {{ seconds(wait.lost_seconds) }} <span class="muted">{{ lock(wait) }}</span>
      </div>
    </div>
    <div class="row foot">
      <div>
        <button v-if="more > 0 || isUnfolded" type="button" class="plain" @click="isUnfolded = !isUnfolded">
          {{ isUnfolded ? 'Show the first only' : `${counted(more, 'more wait')}` }}
        </button>
      </div>
      <div class="axis muted">
        <span>{{ clock(holdUp.from, new Date()) }}</span><span>{{ clock(holdUp.to, new Date()) }}</span>
      </div>
      <div />
    </div>
  </div>
</template>

<style scoped>
.row {
  display: grid;
  grid-template-columns: 300px minmax(120px, 1fr) 330px;
  gap: 10px;
  align-items: center;
  min-height: 20px;
  font-size: 13px;
}
.who,
.end {
  white-space: nowrap;
  overflow: hidden;
  text-overflow: ellipsis;
}
.whose {
  margin-left: 5px;
}
.holds {
  font-weight: 700;
}
.time {
  position: relative;
  height: 12px;
  background: var(--sunk);
  overflow: hidden;
}
.time i {
  position: absolute;
  top: 0;
  bottom: 0;
}
.holder {
  background: var(--ink);
}
/* It keeps its locks and does nothing. */
.idle {
  background: repeating-linear-gradient(-45deg, var(--ink) 0 2px, transparent 2px 6px);
  border: 1px solid var(--ink);
}
.waits {
  background: var(--plum);
}
.queued {
  border: 1.5px dashed var(--plum);
}
.foot {
  min-height: 24px;
}
.axis {
  display: flex;
  justify-content: space-between;
  font-size: 12px;
}
</style>
