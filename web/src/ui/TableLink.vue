<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { tableRoute } from './tableRoute'

/** A table, named as `schema.name`, as a link to its page; plain where its database is not known. */
const props = defineProps<{ database?: string | null | undefined; name: string }>()
const route = useRoute()
const to = computed(() =>
  props.database
    ? { ...tableRoute(props.database, props.name), query: { last: route.query.last } }
    : undefined,
)
</script>

<template>
  <RouterLink v-if="to" class="mono" :to="to">{{ name }}</RouterLink>
  <span v-else class="mono">{{ name }}</span>
</template>
