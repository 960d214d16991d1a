<script setup lang="ts">
import { computed } from 'vue'
import type { Schemas } from '../api/client'
import { number } from '../format'
import { KINDS, kindInk } from './kinds'

/** A load as one bar, split by wait kind in their fixed order. */
const props = defineProps<{
  load: Schemas['LoadFigures']
  /** The load that the full width stands for. */
  full: number
  width?: number
}>()
const HEIGHT = 10
const width = computed(() => props.width ?? 96)
const parts = computed(() => {
  let from = 0
  return props.load.kinds.flatMap((mean, kind) => {
    const part = { kind, x: from, width: (mean / Math.max(props.full, 1e-9)) * width.value }
    from += part.width
    return part.width > 0 ? [part] : []
  })
})
const said = computed(() => {
  if (props.load.total == null) return 'not looked at'
  const kinds = KINDS.map((kind, at) => ({ label: kind.label, mean: props.load.kinds[at] ?? 0 }))
  const seen = kinds.filter(({ mean }) => mean > 0).sort((a, b) => b.mean - a.mean)
  const list = seen.map(({ label, mean }) => `${label} ${number(mean)}`).join(', ')
  return list ? `Mean busy sessions: ${list}` : 'nobody was seen busy with it'
})
</script>

<template>
  <svg :width="width" :height="HEIGHT" role="img" :aria-label="said" class="kind-bar">
    <title>{{ said }}</title>
    <line x1="0" :x2="width" :y1="HEIGHT - 0.5" :y2="HEIGHT - 0.5" stroke="var(--rule)" />
    <rect
      v-for="part in parts"
      :key="part.kind"
      :x="part.x"
      :width="part.width"
      :height="HEIGHT"
      :fill="kindInk(part.kind)"
    />
  </svg>
</template>

<style scoped>
.kind-bar {
  vertical-align: middle;
}
</style>
