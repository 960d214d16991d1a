<script setup lang="ts">
import { computed, ref } from 'vue'
import type { Schemas } from '../api/client'
import { counted, percent } from '../format'
import { guides, isTimed, mergedLines, shareOf } from './planRows'

/** Two plans as one tree: what is the same is folded, what differs stands one above the other. */
const props = defineProps<{
  read: Schemas['PlansRead']
  /** What the two are called, such as “before” and “now”. */
  names: [string, string]
}>()
const unfolded = ref(new Set<number>())
const lines = computed(() => mergedLines(props.read, unfolded.value))
const lead = computed(() => guides(lines.value))
const isSame = computed(() => props.read.merged.every((step) => step.likeness === 'same'))
const timed = computed(() => isTimed(props.read.first.steps) && isTimed(props.read.second?.steps ?? []))
const SIGNS = { same: '=', same_step: ' ', in_place: '', first_only: '', second_only: '' }
</script>

<template>
  <p v-if="isSame">Both are the same plan; they differ in estimates and values only.</p>
  <div v-else class="scrolls">
    <table class="figures plan" data-test="merged">
      <thead>
        <tr>
          <th></th>
          <th>step</th>
          <th class="number">own share of {{ timed ? 'time' : 'cost' }}, {{ names[0] }}</th>
          <th class="number">{{ names[1] }}</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="(line, at) in lines" :key="line.at">
          <tr v-if="line.first" :class="line.likeness">
            <td class="which">
              {{ line.second && line.likeness !== 'in_place' ? SIGNS[line.likeness] : names[0] }}
            </td>
            <td class="mono">
              <span class="lead" aria-hidden="true">{{ lead[at] }}</span>{{ line.first.name }}
              <button
                v-if="line.folded"
                type="button"
                class="fold"
                @click="unfolded = new Set([...unfolded, line.at])"
              >
                and {{ counted(line.folded, 'step') }} below, the same in both ▾
              </button>
            </td>
            <td class="number">{{ percent(shareOf(line.first, timed)) }}</td>
            <td class="number">
              {{ line.second && line.likeness !== 'in_place' ? percent(shareOf(line.second, timed)) : '' }}
            </td>
          </tr>
          <tr v-if="line.second && (!line.first || line.likeness === 'in_place')" :class="line.likeness">
            <td class="which">{{ names[1] }}</td>
            <td class="mono">
              <span class="lead" aria-hidden="true">{{ lead[at] }}</span><b>{{ line.second.name }}</b>
            </td>
            <td></td>
            <td class="number">{{ percent(shareOf(line.second, timed)) }}</td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.scrolls {
  overflow-x: auto;
}
.lead {
  white-space: pre;
  color: var(--muted);
}
.which {
  width: 60px;
  color: var(--muted);
  font-size: 12.5px;
}
.in_place td,
.first_only td,
.second_only td {
  background: var(--plum-wash);
}
.same td {
  color: var(--muted);
}
.fold {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  text-decoration: underline;
  cursor: pointer;
  min-height: 24px;
}
</style>
