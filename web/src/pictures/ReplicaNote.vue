<script setup lang="ts">
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'

/** Says of a replica that what is advised there is carried out on its primary; says nothing of others. */
const { instance } = useInstance()
const id = computed(() => instance.value?.instance_id ?? 0)
const { data } = useLoaded(id, [], () =>
  answer(api.GET('/api/v1/instances/{instance_id}/part', { params: { path: { instance_id: id.value } } })),
)
</script>

<template>
  <p v-if="data?.is_replica" class="muted" data-test="replica">
    This instance is a replica: tables, indexes and their upkeep are changed on its primary<template
      v-if="data.primary"
      >, <RouterLink :to="{ params: { instance: data.primary } }">{{ data.primary }}</RouterLink></template
    ><template v-else>, which is not watched</template>.
    <RouterLink :to="{ name: 'replication' }">See Replication</RouterLink>
  </p>
</template>

<style scoped>
p {
  margin: 0 0 8px;
}
</style>
