<script setup lang="ts">
// One pattern for each wait kind: the hue is never the only difference.
const strokes = [
  null,
  'M0 6L6 0',
  'M0 0L6 6',
  'M0 3H6',
  'M3 0V6',
  'M0 3H6M3 0V6',
  'M0 6L6 0M0 0L6 6',
  'M0 1.5H6M0 4.5H6',
  'M1.5 0V6M4.5 0V6',
  'M3 2.2V3.8',
]
</script>

<template>
  <svg width="0" height="0" aria-hidden="true" class="inks">
    <defs>
      <pattern
        v-for="(stroke, kind) in strokes"
        :id="`ink-${kind}`"
        :key="kind"
        width="6"
        height="6"
        patternUnits="userSpaceOnUse"
      >
        <rect width="6" height="6" :fill="`var(--kind-${kind})`" />
        <path v-if="stroke" :d="stroke" stroke="var(--sheet)" stroke-width="1.1" fill="none" />
      </pattern>
      <pattern id="ink-plum" width="6" height="6" patternUnits="userSpaceOnUse">
        <rect width="6" height="6" fill="var(--plum)" />
      </pattern>
      <pattern id="ink-gap" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <path d="M0 0V5" stroke="var(--hatch)" stroke-width="1.6" />
      </pattern>
    </defs>
  </svg>
</template>

<style scoped>
.inks {
  position: absolute;
}
</style>
