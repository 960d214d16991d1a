<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { useWindow } from '../composables/useWindow'
import { between, clock } from '../format'
import ChoiceSelect from '../ui/ChoiceSelect.vue'
import PageState from '../ui/PageState.vue'
import ProblemNote from '../pictures/ProblemNote.vue'
import { useSession } from '../stores/session'
import ReportForms from './ReportForms.vue'
import ReportSections from './ReportSections.vue'
import ReportView from './ReportView.vue'

/** Reports on an instance: chosen, made on request, shown, and taken away in any form. */
type Kind = Schemas['ReportKind']
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
/** The statement that a report on one is of. */
const given = (name: string) => {
  const value = route.query[name]
  return typeof value === 'string' ? value : undefined
}
const statement = computed(() => given('statement'))
const [first, second] = [computed(() => given('first')), computed(() => given('second'))]
const offered = computed(() =>
  (kinds.value ?? []).filter((one) => !one.is_of_many && (one.kind !== 'statement' || statement.value)),
)
const kind = computed<Kind>(
  () => offered.value.find((one) => one.kind === route.query.kind)?.kind ?? 'period',
)
const chosenKind = computed(() => offered.value.find((one) => one.kind === kind.value))
const sections = computed(() => given('sections'))
/** What is asked for; the address of a file says the same. */
const query = computed(() => ({
  kind: kind.value,
  family_id: kind.value === 'statement' ? statement.value : undefined,
  first: chosenKind.value?.is_between_snapshots ? first.value : undefined,
  second: chosenKind.value?.is_between_snapshots ? second.value : undefined,
  from: window.value.from.toISOString(),
  to: window.value.to.toISOString(),
  then_from: then.value?.from.toISOString(),
  then_to: then.value?.to.toISOString(),
  sections: sections.value,
}))
/** Snapshots with a name, for a report between two of them. */
const { data: snapshots } = useLoaded(
  () => (chosenKind.value?.is_between_snapshots ? `snapshots ${id.value}` : ''),
  () => 0,
  async () =>
    chosenKind.value?.is_between_snapshots
      ? answer(
          api.GET('/api/v1/instances/{instance_id}/snapshots', {
            params: { path: { instance_id: id.value } },
          }),
        )
      : [],
)
const choices = computed(() => [
  { value: undefined, label: 'a snapshot …', disabled: true },
  ...(snapshots.value ?? [])
    .filter((one) => one.taken_at)
    .map((one) => ({
      value: one.snapshot_id,
      label: `${one.name}, ${clock(one.taken_at, new Date())}`,
    })),
])
const isChosenYet = computed(() => !chosenKind.value?.is_between_snapshots || (first.value && second.value))
const { loaded, data, reload } = useLoaded(
  () => `${id.value} ${!!kinds.value} ${JSON.stringify([kind.value, sections.value, route.query])}`,
  again,
  // Which kinds there are is known first: else another report than the one asked for would be made.
  async () =>
    kinds.value &&
    isChosenYet.value &&
    answer(
      api.GET('/api/v1/instances/{instance_id}/report', {
        params: { path: { instance_id: id.value }, query: query.value },
      }),
    ),
)
watch(id, () => (again.value += 1))
const address = computed(() => {
  const named = Object.entries(query.value).flatMap(([name, value]) =>
    value === undefined ? [] : [[name, value]],
  )
  return `/api/v1/instances/${id.value}/report?${new URLSearchParams(named).toString()}`
})
const person = useSession()
const mayKeep = computed(() => person.current?.role !== undefined && person.current.role !== 'reader')
const keeping = useAction()
async function keep(): Promise<void> {
  await keeping.run('keep', async () => {
    const body = { instance_id: id.value, ...query.value }
    const kept = await answer(api.POST('/api/v1/reports', { body }))
    await router.push({ name: 'kept-report', params: { report: kept.report_id } })
  })
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
    <RouterLink :to="{ name: 'kept-reports' }" class="kept">Kept reports</RouterLink>
  </div>
  <div class="sheet choose no-print">
    <label>
      Report
      <ChoiceSelect
        :model-value="kind"
        :options="offered.map((one) => ({ value: one.kind, label: one.title }))"
        @update:model-value="
          (kind) => router.replace({ query: { ...route.query, kind, sections: undefined } })
        "
      />
    </label>
    <Button
      v-if="mayKeep && data && !parts.length"
      size="small"
      :loading="keeping.busy.value !== ''"
      title="It can then be fetched by link, also when its figures are no longer kept, and has room for your own words"
      @click="keep"
      >Keep this report</Button
    >
    <ReportForms class="forms" :address="address" />
    <div v-if="chosenKind?.is_between_snapshots" class="sections">
      From
      <ChoiceSelect
        :model-value="first"
        :options="choices"
        name="First snapshot"
        @update:model-value="(first) => router.replace({ query: { ...route.query, first } })"
      />
      to
      <ChoiceSelect
        :model-value="second"
        :options="choices"
        name="Second snapshot"
        @update:model-value="(second) => router.replace({ query: { ...route.query, second } })"
      />
      <span v-if="snapshots && snapshots.length < 2" class="muted">
        It takes two snapshots by name:
        <RouterLink :to="{ name: 'collection' }">create them on the page Collection</RouterLink>.
      </span>
    </div>
    <div class="sections">
      <ReportSections
        v-if="chosenKind"
        :model-value="sections"
        :sections="chosenKind.sections"
        @update:model-value="(sections) => router.replace({ query: { ...route.query, sections } })"
      />
    </div>
  </div>
  <ProblemNote v-if="keeping.problem.value" :problem="keeping.problem.value" @retry="keep" />
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
.forms,
.kept {
  margin-left: auto;
}
.sections {
  flex-basis: 100%;
}
</style>
