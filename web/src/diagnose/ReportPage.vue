<script setup lang="ts">
import { Button, Checkbox } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useWindow } from '../composables/useWindow'
import { between } from '../format'
import PageState from '../ui/PageState.vue'
import ReportView from './ReportView.vue'

/** Reports on an instance: chosen, made on request, shown, and taken away in any form. */
type Kind = Schemas['ReportKind']
type Form = Schemas['ReportForm']
const FORMS: readonly { form: Form; name: string }[] = [
  { form: 'html', name: 'HTML' },
  { form: 'text', name: 'text' },
  { form: 'csv', name: 'CSV, zipped' },
  { form: 'json', name: 'JSON' },
]
const { instance } = useInstance()
const again = ref(0)
const { window, then, setSpan } = useWindow(again)
const route = useRoute()
const router = useRouter()
const id = computed(() => instance.value?.instance_id ?? 0)
const { data: kinds } = useLoaded(
  () => 'kinds',
  () => 0,
  () => answer(api.GET('/api/v1/reports/kinds')),
)
const kind = computed<Kind>(() => kinds.value?.find((one) => one.kind === route.query.kind)?.kind ?? 'period')
const chosenKind = computed(() => kinds.value?.find((one) => one.kind === kind.value))
const sections = computed(() => (typeof route.query.sections === 'string' ? route.query.sections : undefined))
const isChosen = (section: string) => !sections.value || sections.value.split(',').includes(section)
function toggle(section: string): void {
  const all = chosenKind.value?.sections.map((one) => one.section) ?? []
  const chosen = all.filter((one) => (one === section ? !isChosen(one) : isChosen(one)))
  const text = chosen.length === all.length ? undefined : chosen.join(',')
  void router.replace({ query: { ...route.query, sections: text } })
}
/** What is asked for; the address of a file says the same. */
const query = computed(() => ({
  kind: kind.value,
  from: window.value.from.toISOString(),
  to: window.value.to.toISOString(),
  then_from: then.value?.from.toISOString(),
  then_to: then.value?.to.toISOString(),
  sections: sections.value,
}))
const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${!!kinds.value} ${JSON.stringify([kind.value, sections.value, route.query])}`,
  again,
  // Which kinds there are is known first: else another report than the one asked for would be made.
  async () =>
    kinds.value &&
    answer(
      api.GET('/api/v1/instances/{instance_id}/report', {
        params: { path: { instance_id: id.value }, query: query.value },
      }),
    ),
)
watch(id, () => (again.value += 1))
function address(form: Form): string {
  const named = Object.entries({ ...query.value, form }).flatMap(([name, value]) =>
    value === undefined ? [] : [[name, value]],
  )
  return `/api/v1/instances/${id.value}/report?${new URLSearchParams(named).toString()}`
}
/** Parts of a period that can be reported on, where it as a whole cannot. */
const parts = computed(() =>
  loaded.value.state === 'failed'
    ? (loaded.value.problem.errors ?? []).flatMap((error) => error.parts ?? [])
    : [],
)
</script>

<template>
  <div class="page-head no-print">
    <h1>Reports</h1>
    <span class="muted">What happened in a period, to be read, printed and taken away</span>
  </div>
  <div class="sheet choose no-print">
    <label>
      Report
      <select
        :value="kind"
        @change="
          (event) =>
            router.replace({
              query: {
                ...route.query,
                kind: (event.target as HTMLSelectElement).value,
                sections: undefined,
              },
            })
        "
      >
        <option v-for="one in kinds ?? []" :key="one.kind" :value="one.kind">{{ one.title }}</option>
      </select>
    </label>
    <span class="forms">
      Export
      <a v-for="one in FORMS" :key="one.form" :href="address(one.form)" download>{{ one.name }}</a>
    </span>
    <div class="sections">
      <Checkbox
        v-for="one in chosenKind?.sections ?? []"
        :key="one.section"
        :checked="isChosen(one.section)"
        @change="toggle(one.section)"
        >{{ one.title }}</Checkbox
      >
    </div>
  </div>
  <div v-if="parts.length" class="sheet" data-test="parts">
    <h2>This period cannot be reported on as a whole</h2>
    <p>{{ loaded.state === 'failed' ? loaded.problem.errors?.[0]?.remedy : '' }}</p>
    <p>
      <Button v-for="part in parts" :key="part.from" @click="setSpan(new Date(part.from), new Date(part.to))">
        {{ between({ from: new Date(part.from), to: new Date(part.to) }) }}
      </Button>
    </p>
  </div>
  <PageState v-else :loaded="loaded" @retry="reload" />
  <ReportView v-if="data && !parts.length" :report="data" />
</template>

<style scoped>
.choose {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 24px;
  align-items: baseline;
}
.choose select {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--rule);
  padding: 3px 4px;
}
.forms {
  display: flex;
  gap: 12px;
  margin-left: auto;
}
.sections {
  flex-basis: 100%;
}
</style>
