<script setup lang="ts">
import WaitInks from './pictures/WaitInks.vue'
</script>

<template>
  <WaitInks />
  <RouterView />
</template>
