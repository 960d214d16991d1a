<script setup lang="ts">
import { Button } from 'ant-design-vue'
import { ref, shallowRef, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import ProblemNote from '../pictures/ProblemNote.vue'
import PlanDifference from './PlanDifference.vue'
import PlanTree from './PlanTree.vue'

/** A plan from elsewhere, looked at as those that are kept; or two, held against each other. */
const texts = ref({ first_plan: '', second_plan: '' })
const read = shallowRef<Schemas['PlansRead'] | null>(null)
const reading = useAction()
const FIELDS = [
  { key: 'first_plan', title: 'Plan', hint: 'what EXPLAIN answers, as text or as JSON' },
  { key: 'second_plan', title: 'Another plan', hint: 'to hold against the first; may be left empty' },
] as const
// What is shown is of what was typed then.
watch(texts, () => (read.value = null), { deep: true })

async function look(): Promise<void> {
  const { first_plan, second_plan } = texts.value
  const body = { first_plan, second_plan: second_plan.trim() ? second_plan : null }
  await reading.run('read', async () => {
    read.value = await answer(api.POST('/api/v1/plans/read', { body }))
  })
}
async function open(key: 'first_plan' | 'second_plan', event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) texts.value[key] = await file.text()
  input.value = ''
}
</script>

<template>
  <div class="page-head">
    <h1>Read a plan</h1>
    <span class="muted">Nothing of it is kept, and no server is asked.</span>
  </div>
  <form class="sheet" @submit.prevent="look">
    <div class="fields">
      <label v-for="field in FIELDS" :key="field.key">
        <b>{{ field.title }}</b> <span class="muted">{{ field.hint }}</span>
        <textarea
          v-model="texts[field.key]"
          class="mono"
          rows="8"
          wrap="off"
          spellcheck="false"
          :aria-invalid="reading.fault.value(field.key) !== ''"
        ></textarea>
        <em v-if="reading.fault.value(field.key)" role="alert">{{ reading.fault.value(field.key) }}</em>
        <span class="file">or a file: <input type="file" @change="(event) => open(field.key, event)" /></span>
      </label>
    </div>
    <Button
      type="primary"
      html-type="submit"
      :disabled="!texts.first_plan.trim()"
      :loading="reading.busy.value !== ''"
      >Show</Button
    >
  </form>
  <ProblemNote
    v-if="reading.problem.value && !reading.problem.value.errors?.length"
    :problem="reading.problem.value"
    @retry="look"
  />
  <template v-if="read">
    <section v-if="read.second" class="sheet">
      <h2>What differs</h2>
      <PlanDifference :read="read" :names="['first', 'second']" />
    </section>
    <section class="sheet">
      <h2>{{ read.second ? 'First plan' : 'Plan' }}</h2>
      <PlanTree :tree="read.first" />
    </section>
    <section v-if="read.second" class="sheet">
      <h2>Second plan</h2>
      <PlanTree :tree="read.second" />
    </section>
  </template>
</template>

<style scoped>
.fields {
  display: flex;
  flex-wrap: wrap;
  gap: 14px;
  margin-bottom: 10px;
}
label {
  flex: 1 1 320px;
}
textarea {
  display: block;
  width: 100%;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--rule);
  padding: 6px 8px;
}
em {
  display: block;
  font-style: normal;
  color: var(--warn);
}
.file {
  font-size: 12.5px;
}
</style>
