<script setup lang="ts">
import { kindInk } from './kinds'
defineProps<{ kind: number }>()
</script>

<template>
  <svg width="12" height="12" aria-hidden="true"><rect width="12" height="12" :fill="kindInk(kind)" /></svg>
</template>
