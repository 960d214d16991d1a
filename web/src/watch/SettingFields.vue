<script setup lang="ts">
import { Checkbox, Input } from 'ant-design-vue'
import type { Schemas } from '../api/client'

/** How an instance is to be treated: one row of the form for each setting that there is. */
defineProps<{ settings: readonly Schemas['SettingFigures'][]; fault: (field: string) => string }>()
/** Values by the name of the setting: flags as such, all others as they are typed. */
const values = defineModel<Record<string, boolean | string>>({ required: true })
const set = (name: string, value: boolean | string) => (values.value = { ...values.value, [name]: value })
const id = (name: string) => `c-${name.replaceAll('_', '-')}`
</script>

<template>
  <template v-for="setting in settings" :key="setting.name">
    <label :for="id(setting.name)">{{ setting.label }}</label>
    <div>
      <Checkbox
        v-if="setting.form === 'flag'"
        :id="id(setting.name)"
        :checked="values[setting.name] === true"
        @update:checked="(checked: boolean) => set(setting.name, checked)"
        >{{ setting.hint }}</Checkbox
      >
      <template v-else>
        <Input
          :id="id(setting.name)"
          :value="String(values[setting.name] ?? '')"
          @update:value="(text: string) => set(setting.name, text)"
        /><span class="hint">{{ setting.hint }}</span>
      </template>
      <em>{{ fault(setting.name) }}</em>
    </div>
  </template>
</template>

<style scoped>
label {
  padding-top: 3px;
}
.hint {
  color: var(--muted);
  font-size: 12.5px;
}
em {
  display: block;
  color: var(--warn);
  font-style: normal;
  font-size: 12.5px;
}
</style>
