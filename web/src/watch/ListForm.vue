<script setup lang="ts">
import { Button, Modal, Textarea } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import { answer, api, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { counted } from '../format'
import { useUnsaved } from '../ui/useUnsaved'

/** Brings many instances in at once: looked at row by row first, and taken back by one click after. */
const props = defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: []; changed: [] }>()
/** Rows with problems that are shown. */
const MOST_SHOWN = 200
const text = ref('')
const preview = ref<Schemas['ListPreview'] | null>(null)
const brought = ref<Schemas['BroughtIn'] | null>(null)
const takenBack = ref<number | null>(null)
const { busy, problem, run } = useAction()
const { mayLeave } = useUnsaved(() => props.open && text.value.trim() !== '' && brought.value === null)
async function close(): Promise<void> {
  if (await mayLeave()) emit('close')
}

watch(
  () => props.open,
  (open) => {
    if (!open) return
    text.value = ''
    preview.value = brought.value = takenBack.value = null
    problem.value = null
  },
)
const format = computed(() => (text.value.trimStart().startsWith('[') ? ('json' as const) : ('csv' as const)))
const body = computed(() => ({ format: format.value, text: text.value }))
const bad = computed(() => (preview.value?.rows ?? []).filter((row) => row.problems.length > 0))
watch(text, () => (preview.value = null))

async function choose(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  text.value = await file.text()
  await look()
}
const look = () =>
  run('look', async () => {
    preview.value = await answer(api.POST('/api/v1/instance-lists/preview', { body: body.value }))
  })
async function bringIn(): Promise<void> {
  const done = await run('bring', async () => {
    brought.value = await answer(api.POST('/api/v1/instance-lists', { body: body.value }))
  })
  if (done) emit('changed')
}
async function takeBack(): Promise<void> {
  const list_id = brought.value?.list_id
  if (!list_id) return
  const done = await run('back', async () => {
    const answered = await answer(
      api.DELETE('/api/v1/instance-lists/{list_id}', { params: { path: { list_id } } }),
    )
    takenBack.value = answered.labels.length
  })
  if (done) emit('changed')
}
</script>

<template>
  <Modal :open="open" title="Import instances" :width="820" @cancel="close">
    <template v-if="!brought">
      <p class="muted">
        Comma-separated values with a header line, or a JSON array of objects. Fields: label, host, port,
        database, account, password or credential, tls (off, prefer, require, verify), tls_ca, host_endpoint,
        group, and each setting of an instance by its name: an export shows them all.
      </p>
      <p>
        <input
          type="file"
          accept=".csv,.json,text/csv,application/json"
          aria-label="A file with the list"
          @change="choose"
        />
      </p>
      <label
        >The list<Textarea
          v-model:value="text"
          class="mono"
          :rows="6"
          placeholder="label,host,port,database,credential,group"
      /></label>
    </template>
    <p v-if="problem" class="trouble" role="alert">{{ problem.errors?.[0]?.remedy ?? problem.detail }}</p>
    <div v-if="preview && !brought" role="status" data-test="preview">
      <p class="sum">
        <b>{{ preview.good }}</b> {{ preview.good === 1 ? 'row is' : 'rows are' }} valid<template
          v-if="preview.bad"
          >, <b>{{ preview.bad }}</b> {{ preview.bad === 1 ? 'is' : 'are' }} skipped:</template
        ><template v-else>.</template>
      </p>
      <div v-if="bad.length" class="rows">
        <table class="figures">
          <thead>
            <tr>
              <th class="number">line</th>
              <th>label</th>
              <th class="wide">problem</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in bad.slice(0, MOST_SHOWN)" :key="row.place">
              <td class="number">{{ row.place }}</td>
              <td>{{ row.label || '–' }}</td>
              <td class="wide">
                <div v-for="fault in row.problems" :key="fault.field + fault.remedy">
                  <b>{{ fault.field }}</b> <code v-if="fault.value">{{ fault.value }}</code>
                  {{ fault.remedy }}
                </div>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="bad.length > MOST_SHOWN" class="muted">and {{ bad.length - MOST_SHOWN }} more</p>
      </div>
    </div>
    <div v-if="brought" role="status" data-test="brought">
      <p v-if="takenBack !== null">{{ counted(takenBack, 'instance') }} deleted again.</p>
      <p v-else>
        <b>{{ brought.added }}</b> imported<template v-if="brought.left_out.length"
          >, {{ counted(brought.left_out.length, 'row') }} skipped</template
        >. Collection begins at once.
      </p>
    </div>
    <template #footer>
      <template v-if="brought">
        <Button v-if="takenBack === null" :loading="busy === 'back'" @click="takeBack"
          >Undo the import</Button
        >
        <Button type="primary" @click="emit('close')">Close</Button>
      </template>
      <template v-else>
        <Button :disabled="!text.trim()" :loading="busy === 'look'" @click="look">Preview</Button>
        <Button type="primary" :disabled="!preview?.good" :loading="busy === 'bring'" @click="bringIn">{{
          preview?.good ? `Import ${preview.good}` : 'Import'
        }}</Button>
      </template>
    </template>
  </Modal>
</template>

<style scoped>
.rows {
  max-height: 300px;
  overflow-y: auto;
}
.wide {
  width: 70%;
}
.sum {
  margin: 10px 0 6px;
}
.trouble {
  color: var(--warn);
  margin-top: 10px;
}
</style>
