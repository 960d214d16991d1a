<script setup lang="ts">
import { AutoComplete, Input, InputNumber, Segmented, Select } from 'ant-design-vue'
import { useDebounceFn } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useLoaded } from '../composables/useLoaded'
import { useRoster } from '../stores/roster'
import FormDialog from '../ui/FormDialog.vue'
import FormField from '../ui/FormField.vue'
import ThresholdTrial from './ThresholdTrial.vue'
import { TYPED, typed, type ThresholdRow } from './thresholdWords'

/** A threshold is set, with its past drawn against it while it is. */
const props = defineProps<{ open: boolean; row: ThresholdRow | null; figures: Schemas['FollowedFigure'][] }>()
const emit = defineEmits<{ close: []; saved: [] }>()
const roster = useRoster()
const instances = computed(() => [...roster.byLabel.keys()])
const groups = computed(() =>
  [...new Set([...roster.byLabel.values()].flatMap((one) => one.group ?? []))].sort(),
)
const SCOPES = [
  { value: 'all', label: 'All instances' },
  { value: 'group', label: 'A group' },
  { value: 'instance', label: 'One instance' },
]
const SIDES = [
  { value: 'high', label: 'Above' },
  { value: 'low', label: 'Below' },
]
const VERDICTS = [
  { value: 'look', label: 'Look' },
  { value: 'act', label: 'Act' },
]
const FRESH = {
  scope: 'all',
  instance: '',
  group: '',
  figure: 'load',
  object: '',
  side: 'high' as Schemas['Side'],
  /** Both as they are typed, in the unit that is told beside them. */
  value: 10,
  clears_at: null as number | null,
  lasts_minutes: 10,
  verdict: 'look' as Schemas['Health'],
  step: '',
  is_on: true,
}
const form = reactive({ ...FRESH })
const unit = computed(() => props.figures.find((one) => one.figure === form.figure)?.unit ?? 'count')
watch(
  () => props.open,
  (open) => {
    if (!open) return
    const row = props.row
    Object.assign(form, FRESH)
    if (!row) return
    Object.assign(form, {
      ...row,
      scope: row.instance ? 'instance' : row.group ? 'group' : 'all',
      instance: row.instance ?? '',
      group: row.group ?? '',
      object: row.object ?? '',
      value: typed(row.value, row.unit),
      clears_at: row.clears_at == null ? null : typed(row.clears_at, row.unit),
    })
  },
)
const set = computed<Schemas['ThresholdSet']>(() => {
  const of = TYPED[unit.value].of
  return {
    instance: form.scope === 'instance' ? form.instance : undefined,
    group: form.scope === 'group' ? form.group : undefined,
    figure: form.figure,
    object: form.object.trim() || undefined,
    side: form.side,
    value: form.value * of,
    clears_at: form.clears_at == null ? undefined : form.clears_at * of,
    lasts_minutes: form.lasts_minutes,
    verdict: form.verdict,
    step: form.step,
    is_on: form.is_on,
  }
})
/** What is tried: the newest after a moment in which nothing was typed. */
const tried = ref('')
const settle = useDebounceFn(() => (tried.value = props.open ? JSON.stringify(set.value) : ''), 250)
watch([set, () => props.open], () => void settle(), { immediate: true })
const { loaded } = useLoaded(
  () => (tried.value ? form.figure : ''),
  tried,
  async () => {
    if (!tried.value) return null
    return answer(api.GET('/api/v1/thresholds/trial', { params: { query: JSON.parse(tried.value) } }))
  },
)
const objects = computed(() => {
  const trial = loaded.value.state === 'loading' ? null : loaded.value.data
  const known = new Set(trial?.objects.map(({ object }) => object).filter(Boolean))
  return [...known].sort().map((value) => ({ value }))
})
function chooseFigure(figure: string): void {
  const was = TYPED[unit.value].of
  form.figure = figure
  form.object = ''
  if (TYPED[unit.value].of !== was) Object.assign(form, { clears_at: null })
}
function use(value: number): void {
  const ratio = form.clears_at == null || !form.value ? null : form.clears_at / form.value
  form.value = typed(value, unit.value)
  if (ratio !== null) form.clears_at = Number((form.value * ratio).toPrecision(3))
}
const saving = useAction()
async function save(): Promise<void> {
  const known = props.row
  const body = set.value
  const saved = await saving.run('save', () =>
    answer(
      known
        ? api.PUT('/api/v1/thresholds/{threshold_id}', {
            params: { path: { threshold_id: known.threshold_id } },
            body,
          })
        : api.POST('/api/v1/thresholds', { body }),
    ),
  )
  if (saved) emit('saved')
}
const described = computed(() => props.figures.find((one) => one.figure === form.figure)?.meaning)
const choices = computed(() => props.figures.map(({ figure, title }) => ({ value: figure, label: title })))
</script>

<template>
  <FormDialog
    :open="open"
    :title="row ? `Edit threshold of ${row.title.toLowerCase()}` : 'Create threshold'"
    :values="form"
    :submit="row ? 'Save' : 'Create'"
    :busy="saving.busy.value !== ''"
    :problem="saving.problem.value"
    :width="860"
    @submit="save"
    @close="emit('close')"
  >
    <FormField label="Figure" for="t-figure" :hint="described" :fault="saving.fault.value('figure')">
      <Select
        id="t-figure"
        class="wide"
        show-search
        option-filter-prop="label"
        :value="form.figure"
        :options="choices"
        @change="(figure) => chooseFigure(String(figure))"
      />
    </FormField>
    <FormField label="For">
      <Segmented :value="form.scope" :options="SCOPES" @change="(scope) => (form.scope = String(scope))" />
    </FormField>
    <FormField
      v-if="form.scope === 'instance'"
      label="Instance"
      for="t-instance"
      :fault="saving.fault.value('instance')"
    >
      <Select
        id="t-instance"
        class="wide"
        show-search
        :value="form.instance"
        :options="instances.map((value) => ({ value }))"
        @change="(value) => (form.instance = String(value))"
      />
    </FormField>
    <FormField v-if="form.scope === 'group'" label="Group" for="t-group" :fault="saving.fault.value('group')">
      <Select
        id="t-group"
        class="wide"
        :value="form.group"
        :options="groups.map((value) => ({ value }))"
        @change="(value) => (form.group = String(value))"
      />
    </FormField>
    <FormField
      v-if="objects.length || form.object"
      label="Object"
      for="t-object"
      hint="each of them where it is empty"
      :fault="saving.fault.value('object')"
    >
      <AutoComplete
        id="t-object"
        class="wide"
        :value="form.object"
        :options="objects"
        allow-clear
        @change="(value) => (form.object = String(value ?? ''))"
      />
    </FormField>
    <FormField
      label="Raised"
      for="t-value"
      :fault="saving.fault.value('value') || saving.fault.value('lasts_minutes')"
    >
      <div class="line">
        <Segmented
          :value="form.side"
          :options="SIDES"
          @change="(side) => (form.side = side as Schemas['Side'])"
        />
        <InputNumber
          id="t-value"
          :value="form.value"
          :addon-after="TYPED[unit].word || undefined"
          @change="(value) => (form.value = Number(value ?? 0))"
        />
        <label for="t-lasts">for at least</label>
        <InputNumber
          id="t-lasts"
          class="short"
          :value="form.lasts_minutes"
          :min="0"
          :max="10080"
          :step="10"
          addon-after="min"
          @change="(minutes) => (form.lasts_minutes = Number(minutes ?? 0))"
        />
      </div>
    </FormField>
    <FormField label="Over at" for="t-clears" :fault="saving.fault.value('clears_at')">
      <div class="line">
        <InputNumber
          id="t-clears"
          :value="form.clears_at ?? undefined"
          :addon-after="TYPED[unit].word || undefined"
          @change="(value) => (form.clears_at = value == null || value === '' ? null : Number(value))"
        />
        <span class="muted">the same value where it is empty</span>
      </div>
    </FormField>
    <FormField label="It asks to" :fault="saving.fault.value('verdict')">
      <div class="line">
        <Segmented
          :value="form.verdict"
          :options="VERDICTS"
          @change="(verdict) => (form.verdict = verdict as Schemas['Health'])"
        />
        <label class="on"><input v-model="form.is_on" type="checkbox" /> raises alarms</label>
        <span v-if="!form.is_on" class="muted">It takes that of a wider scope out of force.</span>
      </div>
    </FormField>
    <FormField
      label="What to do"
      for="t-step"
      hint="shown with the alarm"
      :fault="saving.fault.value('step')"
    >
      <Input id="t-step" v-model:value="form.step" :maxlength="500" />
    </FormField>
    <template #below><ThresholdTrial :loaded="loaded" :value="set.value" @use="use" /></template>
  </FormDialog>
</template>

<style scoped>
.wide {
  width: 100%;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 10px;
  align-items: center;
}
.short {
  width: 120px;
}
.on {
  display: inline-flex;
  gap: 5px;
  align-items: baseline;
}
</style>
