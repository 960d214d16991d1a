<script setup lang="ts">
import type { Schemas } from '../api/client'
import { between, clock } from '../format'
import DataTable from '../ui/DataTable.vue'
import { columns, written } from './reportCells'

/** A report as it is read on the page: sections with sentences first, then their tables, sorted as one likes. */
defineProps<{ report: Schemas['Report'] }>()
type Table = Schemas['ReportTable']
const codes = (table: Table) =>
  table.columns.filter((column) => column.unit === 'code').map((column) => column.name)
const at = (table: Table, name: string) => table.columns.findIndex((column) => column.name === name)
const span = ({ from, to }: { from: string; to: string }) =>
  between({ from: new Date(from), to: new Date(to) })
</script>

<template>
  <article data-test="report">
    <h1 class="title">{{ report.title }}</h1>
    <p class="muted">
      {{ span(report.span) }}<template v-if="report.then">, compared with {{ span(report.then) }}</template
      >; made at {{ clock(report.made_at, new Date()) }}
    </p>
    <p v-for="remark in report.remarks" :key="remark">
      <b>{{ remark }}</b>
    </p>
    <p v-if="report.words" class="words">{{ report.words }}</p>
    <section v-for="section in report.sections" :key="section.key" class="sheet" :data-test="section.key">
      <h2>{{ section.title }}</h2>
      <p v-for="sentence in section.sentences" :key="sentence" class="sentence">{{ sentence }}</p>
      <template v-for="table in section.tables" :key="table.name">
        <template v-if="table.rows.length">
          <h3>{{ table.title }}</h3>
          <DataTable
            :name="table.name"
            :rows="table.rows"
            :columns="columns(table)"
            :row-key="(row) => table.rows.indexOf(row)"
            :page-size="table.rows.length"
            plain
          >
            <template v-for="code in codes(table)" :key="code" #[`cell-${code}`]="{ row }">
              <span class="mono code">{{ written(row[at(table, code)], 'code') }}</span>
            </template>
          </DataTable>
        </template>
      </template>
    </section>
  </article>
</template>

<style scoped>
.title {
  font-size: 20px;
  margin: 6px 0 0;
}
.sentence {
  margin: 0 0 4px;
  max-width: 110ch;
}
h3 {
  margin: 12px 0 4px;
  font-size: 13px;
}
.words {
  white-space: pre-line;
  border-left: 3px solid var(--plum);
  padding-left: 10px;
  max-width: 110ch;
}
.code {
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
