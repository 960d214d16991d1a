<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { count, seconds } from '../format'

/** How many waits were how long, and what was lost to them: bars of both, bin by bin. */
const props = defineProps<{ lengths: readonly Schemas['WaitLengths'][] }>()
const most = computed(() => Math.max(1, ...props.lengths.map((bin) => bin.waits)))
const lost = computed(() => Math.max(1, ...props.lengths.map((bin) => bin.lost_seconds)))
const bins = computed(() =>
  props.lengths.map((bin, at) => {
    const next = props.lengths[at + 1]
    const from = bin.from_seconds
    return {
      ...bin,
      name: from === 0 ? `under ${seconds(2)}` : next ? `from ${seconds(from)}` : `${seconds(from)} or more`,
    }
  }),
)
</script>

<template>
  <table class="figures" data-test="wait-lengths">
    <thead>
      <tr>
        <th>length</th>
        <th class="number">waits</th>
        <th class="bar"></th>
        <th class="number">lost</th>
        <th class="bar"></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="bin in bins" :key="bin.from_seconds">
        <td>{{ bin.name }}</td>
        <td class="number">{{ count(bin.waits) }}</td>
        <td><i v-if="bin.waits" class="waits" :style="{ width: `${(bin.waits / most) * 100}%` }" /></td>
        <td class="number">{{ seconds(bin.lost_seconds) }}</td>
        <td>
          <i v-if="bin.lost_seconds" class="lost" :style="{ width: `${(bin.lost_seconds / lost) * 100}%` }" />
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.bar {
  width: 35%;
}
i {
  display: block;
  height: 11px;
}
.waits {
  background: var(--plum);
}
.lost {
  background: repeating-linear-gradient(-45deg, var(--ink) 0 2px, transparent 2px 5px);
  border: 1px solid var(--ink);
}
</style>
