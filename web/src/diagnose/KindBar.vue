<script setup lang="ts">
import { computed } from 'vue'
import { number } from '../format'
import { KINDS, kindInk } from '../pictures/kinds'

/** A bar of wait kinds in their fixed order; its length is the share of the heaviest. */
const props = defineProps<{ kinds: readonly number[]; most: number }>()
const WIDTH = 180
const parts = computed(() => {
  let x = 0
  return props.kinds.map((mean, kind) => {
    const width = (mean / (props.most || 1)) * WIDTH
    const part = { kind, x, width, mean }
    x += width
    return part
  })
})
const words = computed(() =>
  props.kinds
    .map((mean, kind) => ({ mean, label: KINDS[kind]?.label }))
    .filter((part) => part.mean > 0)
    .sort((a, b) => b.mean - a.mean)
    .map((part) => `${part.label} ${number(part.mean)}`)
    .join(', '),
)
</script>

<template>
  <svg :width="WIDTH" height="13" role="img" :aria-label="words">
    <title>{{ words }}</title>
    <rect
      v-for="part in parts"
      :key="part.kind"
      :x="part.x"
      y="0"
      :width="part.width"
      height="13"
      :fill="kindInk(part.kind)"
    />
  </svg>
</template>
