<script setup lang="ts">
import { Button, Input, Pagination, Popconfirm } from 'ant-design-vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ActionRun from '../actions/ActionRun.vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { clock } from '../format'
import ProblemNote from '../pictures/ProblemNote.vue'
import SqlText from '../pictures/SqlText.vue'
import { useSession } from '../stores/session'

type Row = Schemas['ActionFigures']
/** What was put in force or proposed, with who decided; and whether a second person must approve. */
const PAGE_SIZE = 25
const route = useRoute()
const router = useRouter()
const person = useSession()
const page = computed(() => Math.max(1, Number(route.query.page) || 1))
const { loaded, reload } = useLoaded(
  page,
  () => 0,
  async () => {
    const query = { page: page.value, page_size: PAGE_SIZE }
    const [list, rules] = await Promise.all([
      answer(api.GET('/api/v1/actions', { params: { query } })),
      answer(api.GET('/api/v1/house-rules')),
    ])
    return { list, rules }
  },
)
const data = computed(() => (loaded.value.state === 'loading' ? null : (loaded.value.data ?? null)))

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
  <ProblemNote v-if="loaded.state === 'failed'" :problem="loaded.problem" @retry="reload" />
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
      <p v-if="data.list.actions.length === 0" class="muted">
        No action was applied yet. Sessions are ended and statements cancelled from the page Sessions; tables
        are analyzed from the first look.
      </p>
      <table v-else class="figures" data-test="actions">
        <thead>
          <tr>
            <th>when</th>
            <th>instance</th>
            <th class="wide">action and reason</th>
            <th>proposed by</th>
            <th>decided by</th>
            <th>state</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="row in data.list.actions"
            :key="row.action_id"
            :class="{ waits: row.state === 'proposed' }"
          >
            <td class="number">{{ clock(row.proposed_at, new Date()) }}</td>
            <td>{{ row.instance }}</td>
            <td class="wide">
              <b>{{ row.title }}:</b> {{ row.reason }}
              <details>
                <summary>{{ row.told }}</summary>
                <SqlText v-if="row.statement" :text="row.statement" name="what is sent to the server" />
              </details>
              <ActionRun
                v-if="row.started_at"
                :key="`${row.action_id} ${row.state}`"
                :action="row"
                @ended="reload"
              />
            </td>
            <td>{{ row.proposed_by }}</td>
            <td>{{ row.decided_by }}</td>
            <td>{{ row.state }}</td>
            <td class="acts">
              <template v-if="row.state === 'proposed'">
                <Popconfirm
                  v-if="!row.may_not_approve"
                  :title="row.told"
                  ok-text="Approve"
                  cancel-text="Cancel"
                  @confirm="decide(row, true)"
                >
                  <Button size="small" type="primary">Approve</Button>
                </Popconfirm>
                <span v-else-if="row.proposed_by !== person.current?.name" class="muted">{{
                  row.may_not_approve
                }}</span>
                <Button size="small" @click="decide(row, false)">{{
                  row.proposed_by === person.current?.name ? 'Withdraw' : 'Refuse'
                }}</Button>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
      <Pagination
        v-if="data.list.matching > PAGE_SIZE"
        size="small"
        :current="page"
        :page-size="PAGE_SIZE"
        :total="data.list.matching"
        :show-size-changer="false"
        @change="(next: number) => router.replace({ query: { page: String(next) } })"
      />
    </div>
  </template>
  <div v-else-if="loaded.state === 'loading'" class="sheet muted">Loading …</div>
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
.wide {
  width: 50%;
}
summary {
  cursor: pointer;
  color: var(--muted);
  font-size: 12.5px;
}
.waits {
  background: var(--plum-wash);
}
.acts {
  white-space: nowrap;
}
.acts button + button {
  margin-left: 6px;
}
</style>
