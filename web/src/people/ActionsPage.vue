<script setup lang="ts">
import { Button, Input } from 'ant-design-vue'
import { computed, ref } from 'vue'
import ActionRun from '../actions/ActionRun.vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import PageState from '../ui/PageState.vue'
import StatementText from '../ui/StatementText.vue'
import { useSession } from '../stores/session'
import ConfirmButton from '../ui/ConfirmButton.vue'
import DataTable from '../ui/DataTable.vue'
import { everyPage, type Column } from '../ui/table'
import { useTableState } from '../ui/useTableState'

type Row = Schemas['ActionFigures']
/** What was put in force or proposed, with who decided; and whether a second person must approve. */
const PAGE_SIZE = 25
const person = useSession()
const { page, order } = useTableState('actions')
const ask = (page: number, page_size: number) =>
  answer(
    api.GET('/api/v1/actions', {
      params: {
        query: {
          sort: order.value?.column as Schemas['ActionOrder'] | undefined,
          ascending: order.value?.ascending,
          page,
          page_size,
        },
      },
    }),
  )
const { loaded, data, reload } = useLoaded(
  () => [page.value, JSON.stringify(order.value)].join(' '),
  () => 0,
  async () => {
    const [list, rules] = await Promise.all([
      ask(page.value, PAGE_SIZE),
      answer(api.GET('/api/v1/house-rules')),
    ])
    return { list, rules }
  },
)

const everyRow = () =>
  everyPage(async (page, pageSize) => {
    const { matching, actions } = await ask(page, pageSize)
    return { matching, rows: actions }
  })
const COLUMNS: Column<Row>[] = [
  {
    key: 'proposed_at',
    sorts: true,
    title: 'time',
    number: true,
    value: (row) => row.proposed_at,
    text: (row) => clock(row.proposed_at, new Date()),
  },
  { key: 'instance', sorts: true, title: 'instance', value: (row) => row.instance },
  { key: 'action', title: 'action and reason', value: (row) => `${row.title}: ${row.reason}` },
  { key: 'proposed_by', sorts: true, title: 'proposed by', value: (row) => row.proposed_by },
  { key: 'decided_by', sorts: true, title: 'decided by', value: (row) => row.decided_by ?? '' },
  { key: 'state', sorts: true, title: 'state', value: (row) => row.state },
]

const deciding = useAction()
const decide = async (row: Row, approve: boolean): Promise<void> => {
  const params = { path: { action_id: row.action_id } }
  await deciding.run(`decide ${row.action_id}`, () =>
    answer(
      approve
        ? api.POST('/api/v1/actions/{action_id}/approval', { params })
        : api.DELETE('/api/v1/actions/{action_id}', { params }),
    ),
  )
  await reload()
}

const ruling = useAction()
const reason = ref('')
async function setRule(): Promise<void> {
  const body = { second_person: !data.value?.rules.second_person, reason: reason.value }
  if (await ruling.run('rule', () => answer(api.PUT('/api/v1/house-rules', { body })))) reason.value = ''
  await reload()
}
const ofRule = computed(() => ruling.fault.value('reason') || ruling.fault.value('second_person'))
</script>

<template>
  <div class="page-head">
    <h1>Actions and approvals</h1>
    <span class="muted">Actions on watched servers: by whom, why, and with what result</span>
  </div>
  <PageState :loaded="loaded" @retry="reload" />
  <ProblemNote v-if="deciding.problem.value" :problem="deciding.problem.value" />
  <template v-if="data">
    <form class="sheet rule" @submit.prevent="setRule">
      <div>
        <b>{{
          data.rules.second_person
            ? 'A second person must approve every action.'
            : 'One administrator can apply actions alone.'
        }}</b>
        <div class="muted">
          {{
            data.rules.second_person
              ? 'Lifting this rule must be approved as well.'
              : 'With the second-person rule, one administrator proposes and another approves.'
          }}
        </div>
        <em role="alert">{{ ofRule }}</em>
      </div>
      <label
        >Why?
        <Input v-model:value="reason" :maxlength="500" />
      </label>
      <Button html-type="submit" :loading="ruling.busy.value !== ''">{{
        data.rules.second_person ? 'Propose to lift the rule' : 'Require a second person'
      }}</Button>
    </form>
    <div class="sheet">
      <DataTable
        name="actions"
        test="actions"
        :rows="data.list.actions"
        :columns="COLUMNS"
        :row-key="(row) => row.action_id"
        :page-size="PAGE_SIZE"
        :matching="data.list.matching"
        one="action"
        :every-row="everyRow"
        :row-class="(row) => (row.state === 'proposed' ? 'waits' : undefined)"
      >
        <template #empty
          ><p class="muted">
            No action was applied yet. Sessions are ended and statements cancelled from the page Sessions;
            tables are analyzed from the first look.
          </p></template
        >
        <template #cell-action="{ row }">
          <div class="what">
            <b>{{ row.title }}:</b> {{ row.reason }}
            <details>
              <summary>{{ row.told }}</summary>
              <StatementText v-if="row.statement" :text="row.statement" name="what is sent to the server" />
            </details>
            <ActionRun
              v-if="row.started_at"
              :key="`${row.action_id} ${row.state}`"
              :action="row"
              @ended="reload"
            />
          </div>
        </template>
        <template #actions="{ row }">
          <div v-if="row.state === 'proposed'" class="acts">
            <ConfirmButton
              v-if="!row.may_not_approve"
              :lost="row.told"
              action="Approve"
              primary
              @confirm="decide(row, true)"
            />
            <span v-else-if="row.proposed_by !== person.current?.name" class="muted">{{
              row.may_not_approve
            }}</span>
            <Button size="small" @click="decide(row, false)">{{
              row.proposed_by === person.current?.name ? 'Withdraw' : 'Refuse'
            }}</Button>
          </div>
        </template>
      </DataTable>
    </div>
  </template>
</template>

<style scoped>
.rule {
  display: grid;
  grid-template-columns: 1fr 260px auto;
  gap: 12px;
  align-items: center;
}
em {
  color: var(--warn);
  font-style: normal;
}
.what {
  min-width: 320px;
}
summary {
  cursor: pointer;
  color: var(--muted);
  font-size: 12.5px;
}
:deep(.waits) {
  background: var(--plum-wash);
}
.acts {
  white-space: nowrap;
}
.acts button + button {
  margin-left: 6px;
}
</style>
