<script setup lang="ts">
import { Checkbox, Input } from 'ant-design-vue'
import type { Schemas } from '../api/client'
import FormField from '../ui/FormField.vue'

/** How an instance is to be treated: one row of the form for each setting that there is. */
defineProps<{ settings: readonly Schemas['SettingFigures'][]; fault: (field: string) => string }>()
/** Values by the name of the setting: flags as such, all others as they are typed. */
const values = defineModel<Record<string, boolean | string>>({ required: true })
const set = (name: string, value: boolean | string) => (values.value = { ...values.value, [name]: value })
const id = (name: string) => `c-${name.replaceAll('_', '-')}`
</script>

<template>
  <FormField
    v-for="setting in settings"
    :key="setting.name"
    :label="setting.label"
    :for="id(setting.name)"
    :hint="setting.form === 'flag' ? undefined : setting.hint"
    :fault="fault(setting.name)"
  >
    <Checkbox
      v-if="setting.form === 'flag'"
      :id="id(setting.name)"
      :checked="values[setting.name] === true"
      @update:checked="(checked: boolean) => set(setting.name, checked)"
      >{{ setting.hint }}</Checkbox
    >
    <Input
      v-else
      :id="id(setting.name)"
      :value="String(values[setting.name] ?? '')"
      @update:value="(text: string) => set(setting.name, text)"
    />
  </FormField>
</template>
