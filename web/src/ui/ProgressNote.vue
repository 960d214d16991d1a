<script setup lang="ts">
import { Button, Progress } from 'ant-design-vue'
import { computed } from 'vue'
import { seconds } from '../format'

/** How far long work is: what it does now, how much is done, how long it may still take, and a way to stop it. */
const props = defineProps<{
  /** Share that is done, from 0 to 1; nothing where it is not known. */
  share: number | null | undefined
  /** What it does now. */
  phase: string
  /** When it began. */
  begunAt: Date | string
  stops?: 'can' | 'asked'
}>()
defineEmits<{ stop: [] }>()
/** Nothing is foretold from less than this share. */
const LEAST_SHARE = 0.05
const left = computed(() => {
  const share = props.share ?? 0
  if (share < LEAST_SHARE || share >= 1) return ''
  const past = (Date.now() - new Date(props.begunAt).getTime()) / 1000
  return `about ${seconds(Math.round((past * (1 - share)) / share))} left`
})
</script>

<template>
  <div>
    <Progress :percent="Math.round((share ?? 0) * 100)" size="small" status="normal" />
    <p class="line">
      <span
        >{{ phase }}<template v-if="left">, {{ left }}</template></span
      >
      <Button v-if="stops" size="small" :disabled="stops === 'asked'" @click="$emit('stop')">{{
        stops === 'asked' ? 'Stopping' : 'Stop'
      }}</Button>
    </p>
  </div>
</template>

<style scoped>
.line {
  display: flex;
  justify-content: space-between;
  gap: 8px;
  margin: 0;
}
</style>
