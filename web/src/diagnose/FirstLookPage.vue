<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { computed, nextTick, ref } from 'vue'
import { answer, api } from '../api/client'
import { useInstance } from '../composables/useInstance'
import { useLoaded } from '../composables/useLoaded'
import { clock, zone } from '../format'
import HealthMark from '../pictures/HealthMark.vue'
import { useActions } from '../frame/pageActions'
import ReplicaNote from '../pictures/ReplicaNote.vue'
import PageState from '../ui/PageState.vue'
import FirstLookPoint from './FirstLookPoint.vue'

/** The ordered checklist on an instance: each check with its verdict, what it rests on, and what to do next. */
const { instance } = useInstance()
const id = computed(() => instance.value?.instance_id)
const looks = ref(0)
useActions(() => [{ title: 'Refresh the first look', run: () => (looks.value += 1) }])
const {
  loaded,
  data: look,
  reload,
} = useLoaded(id, looks, async () =>
  id.value === undefined
    ? null
    : answer(
        api.GET('/api/v1/instances/{instance_id}/first-look', {
          params: { path: { instance_id: id.value } },
        }),
      ),
)
/** What somebody should do something about, the most urgent first, each with its check. */
const urgent = computed(() => {
  const all = (look.value?.findings ?? []).flatMap((finding) =>
    finding.points.map((point) => ({ finding, point })),
  )
  return ['act', 'look'].flatMap((verdict) => all.filter(({ point }) => point.verdict === verdict))
})
const SHOWN = 6
const report = (form: string) => `/api/v1/instances/${id.value ?? 0}/report?kind=first_look&form=${form}`

const evidence = ref(false)
async function print(): Promise<void> {
  evidence.value = true
  await nextTick()
  globalThis.print()
}
</script>

<template>
  <div class="page-head">
    <h1>First look at {{ instance?.label }}</h1>
    <span v-if="look" class="muted"
      >{{ look.verdicts.act }} to act on, {{ look.verdicts.look }} to look at, {{ look.verdicts.no_data }} not
      known, {{ look.verdicts.quiet }} quiet</span
    >
    <div class="tools no-print">
      <Button size="small" @click="evidence = !evidence">{{
        evidence ? 'Hide evidence' : 'Show all evidence'
      }}</Button>
      <Button size="small" @click="print">Print</Button>
      <a :href="report('html')" download>HTML</a>
      <a :href="report('text')" download>Text</a>
      <Button size="small" type="primary" @click="looks += 1">Refresh</Button>
    </div>
  </div>
  <ReplicaNote />
  <PageState :loaded="loaded" @retry="reload" />
  <template v-if="look">
    <p class="muted when">
      {{ look.place }}<template v-if="look.server_version">, version {{ look.server_version }}</template
      >. Looked at {{ clock(look.at, new Date()) }} ({{ zone() }}); lately is from
      {{ clock(look.lately.from, new Date()) }} on.
    </p>
    <ol v-if="urgent.length" class="sheet urgent no-print" data-test="urgent">
      <li v-for="({ finding, point }, i) in urgent.slice(0, SHOWN)" :key="i">
        <HealthMark :health="point.verdict" />
        <a :href="`#${finding.check}`">{{ finding.title }}</a>
        <span class="one-line">{{ point.text }}</span>
      </li>
      <li v-if="urgent.length > SHOWN" class="muted">and {{ urgent.length - SHOWN }} more below</li>
    </ol>
    <div v-else class="sheet">No check found a problem. The evidence of each is below.</div>
    <section
      v-for="(finding, i) in look.findings"
      :id="finding.check"
      :key="finding.check"
      class="sheet finding"
      :data-test="`check-${finding.check}`"
    >
      <header>
        <h2>{{ i + 1 }}. {{ finding.title }}</h2>
        <HealthMark :health="finding.verdict" />
        <span v-if="finding.points.length" class="muted">{{ finding.asks }}</span>
        <span v-else :title="finding.asks">{{ finding.summary }}</span>
      </header>
      <ul v-if="finding.points.length">
        <FirstLookPoint v-for="(point, p) in finding.points" :key="p" :point="point" :instance-id="id ?? 0" />
      </ul>
      <details v-if="finding.facts.length" :open="evidence">
        <summary>Evidence ({{ finding.facts.length }})</summary>
        <table class="figures">
          <tbody>
            <tr v-for="(fact, f) in finding.facts" :key="f">
              <td>{{ fact.what }}</td>
              <td>
                {{ fact.value }}<template v-if="fact.value && fact.at">, </template
                ><template v-if="fact.at">{{ clock(fact.at, new Date()) }}</template>
              </td>
            </tr>
          </tbody>
        </table>
      </details>
    </section>
  </template>
</template>

<style scoped>
.tools {
  margin-left: auto;
  display: flex;
  gap: 12px;
  align-items: baseline;
}
.when {
  font-size: 13px;
}
.urgent {
  list-style: none;
  margin: 0 0 12px;
  padding: 9px 12px;
  border-left: 4px solid var(--plum);
  display: grid;
  /* Links one below the other: far enough apart for a finger. */
  gap: 6px;
}
.urgent li {
  display: grid;
  grid-template-columns: 58px 190px 1fr;
  gap: 8px;
  align-items: baseline;
  min-width: 0;
}
.urgent li.muted {
  display: block;
}
.finding {
  padding: 7px 14px;
  margin-bottom: 6px;
  scroll-margin-top: 8px;
  break-inside: avoid;
}
.finding header {
  display: flex;
  gap: 12px;
  align-items: baseline;
  flex-wrap: wrap;
}
.finding header h2 {
  margin: 0;
}
ul {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
  display: grid;
  gap: 8px;
}
details {
  margin-top: 2px;
}
summary {
  cursor: pointer;
  color: var(--muted);
  font-size: 12.5px;
}
td {
  overflow-wrap: anywhere;
}
td:first-child {
  width: 42%;
  color: var(--muted);
}
@media print {
  summary {
    list-style: none;
  }
}
</style>
