<script setup lang="ts">
import { computed } from 'vue'
import { answer, api } from '../api/client'
import { number, percent } from '../format'
import KindBar from '../pictures/KindBar.vue'
import PageState from '../ui/PageState.vue'
import { GROUPS, type By } from './loadGroups'
import { useWindowPart, type FamilyPart } from './windowPart'

/** Who runs a family: its load by account, program, client and database. */
const props = defineProps<FamilyPart>()
const MOST = 8
const SHOWN: readonly By[] = ['account', 'program', 'client', 'database']
const groups = GROUPS.filter(({ by }) => SHOWN.includes(by))
const { loaded, data, reload } = useWindowPart(
  props,
  ({ path, query }) =>
    Promise.all(
      groups.map(({ by }) =>
        answer(
          api.GET('/api/v1/instances/{instance_id}/load/breakdown', {
            params: { path, query: { ...query, by, only: `family:${props.family}`, most: MOST } },
          }),
        ),
      ),
    ),
  () => [props.family],
)
const full = computed(() =>
  Math.max(...(data.value ?? []).flatMap(({ parts }) => parts.map(({ load }) => load.total ?? 0)), 0),
)
const isSeen = computed(() => (data.value ?? []).some(({ parts }) => parts.length > 0))
</script>

<template>
  <PageState v-if="!data" :loaded="loaded" @retry="reload" />
  <p v-else-if="!isSeen" class="muted">
    No look at the sessions saw it in this window: it was short, or did not run.
  </p>
  <div v-else class="groups" data-test="who-runs-it">
    <table v-for="(group, at) in groups" :key="group.by">
      <caption>
        {{
          group.title
        }}
      </caption>
      <tbody>
        <tr v-for="part in data[at]!.parts" :key="part.part ?? ''">
          <td class="name">{{ part.name || group.unknown }}</td>
          <td class="figure">{{ number(part.load.total) }}</td>
          <td class="figure">{{ percent(part.share) }}</td>
          <td><KindBar :load="part.load" :full="full" :width="64" /></td>
        </tr>
        <tr v-if="data[at]!.count > data[at]!.parts.length">
          <td class="muted" colspan="2">{{ data[at]!.count - data[at]!.parts.length }} more</td>
          <td class="figure">{{ percent(data[at]!.share_of_others) }}</td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.groups {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px 28px;
}
table {
  width: 100%;
  align-self: start;
}
caption {
  text-align: left;
  font-weight: 600;
}
.name {
  width: 100%;
  overflow-wrap: anywhere;
}
.figure {
  text-align: right;
  white-space: nowrap;
  padding: 0 8px;
}
</style>
