<script setup lang="ts">
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { useLoaded } from '../composables/useLoaded'
import { ago } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import { useRoster, type Instance } from '../stores/roster'
import PageState from '../ui/PageState.vue'

/** All open alarms of an instance but the most urgent one, which stands above. */
const props = defineProps<{ instance: Instance }>()
const roster = useRoster()
const { loaded, reload } = useLoaded(
  () => props.instance.instance_id,
  () => roster.news[props.instance.instance_id]?.alarms ?? 0,
  () =>
    answer(
      api.GET('/api/v1/alarms', {
        params: { query: { state: 'open', instance_id: props.instance.instance_id } },
      }),
    ),
)
const others = computed(() =>
  loaded.value.state === 'loading'
    ? []
    : (loaded.value.data?.alarms ?? []).filter(({ alarm_id }) => alarm_id !== props.instance.worst?.alarm_id),
)
</script>

<template>
  <PageState :loaded="loaded" @retry="reload" />
  <ul v-if="others.length" class="others" data-test="other-alarms">
    <li v-for="alarm in others" :key="alarm.alarm_id">
      <HealthMark :health="alarm.asks ?? alarm.verdict" />
      <RouterLink :to="{ name: 'alarm', params: { alarm: alarm.alarm_id } }">{{ alarm.text }}</RouterLink>
      <span class="muted"
        >{{ alarm.asks ? '' : 'quiet for now, ' }}{{ ago(alarm.began_at, new Date()) }}</span
      >
    </li>
  </ul>
</template>

<style scoped>
.others {
  list-style: none;
  margin: 4px 0 0;
  padding: 0;
}
.others li {
  display: grid;
  grid-template-columns: 64px 1fr auto;
  gap: 8px;
  align-items: baseline;
  padding: 1px 0;
}
a {
  color: inherit;
}
</style>
