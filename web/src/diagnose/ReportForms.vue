<script setup lang="ts">
import type { Schemas } from '../api/client'

/** The forms in which a report can be taken away. */
defineProps<{
  /** Address of the report, without its form. */
  address: string
}>()
type Form = Schemas['ReportForm']
const FORMS: readonly { form: Form; name: string }[] = [
  { form: 'html', name: 'HTML' },
  { form: 'text', name: 'text' },
  { form: 'csv', name: 'CSV, zipped' },
  { form: 'json', name: 'JSON' },
]
const print = () => globalThis.print()
</script>

<template>
  <span class="forms no-print">
    <button type="button" class="link" @click="print">Print</button>
    Export
    <a
      v-for="one in FORMS"
      :key="one.form"
      :href="`${address}${address.includes('?') ? '&' : '?'}form=${one.form}`"
      download
      >{{ one.name }}</a
    >
  </span>
</template>

<style scoped>
.forms {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
</style>
