<script setup lang="ts">
import type { Schemas } from '../api/client'
import { between, clock } from '../format'
import { isNumber, written } from './reportCells'

/** A report as it is read on the page: sections with sentences first, then their tables. */
defineProps<{ report: Schemas['Report'] }>()
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
    <section v-for="section in report.sections" :key="section.key" class="sheet" :data-test="section.key">
      <h2>{{ section.title }}</h2>
      <p v-for="sentence in section.sentences" :key="sentence" class="sentence">{{ sentence }}</p>
      <template v-for="table in section.tables" :key="table.name">
        <template v-if="table.rows.length">
          <h3>{{ table.title }}</h3>
          <div class="scroll">
            <table>
              <thead>
                <tr>
                  <th
                    v-for="column in table.columns"
                    :key="column.name"
                    :class="{ number: isNumber(column.unit) }"
                  >
                    {{ column.title }}
                  </th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="(row, place) in table.rows" :key="place">
                  <td
                    v-for="(cell, at) in row"
                    :key="at"
                    :class="{
                      number: isNumber(table.columns[at]!.unit),
                      mono: table.columns[at]!.unit === 'code',
                      time: table.columns[at]!.unit === 'time',
                    }"
                  >
                    {{ written(cell, table.columns[at]!.unit) }}
                  </td>
                </tr>
              </tbody>
            </table>
          </div>
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
.scroll {
  overflow-x: auto;
}
table {
  width: 100%;
  font-size: 12.5px;
  font-variant-numeric: tabular-nums;
}
th {
  text-align: left;
  font-weight: 600;
  border-bottom: 1px solid var(--rule);
  vertical-align: bottom;
}
th,
td {
  padding: 2px 10px 2px 0;
}
td {
  vertical-align: top;
  border-bottom: 1px solid var(--rule);
}
.number {
  text-align: right;
  white-space: nowrap;
}
.time {
  white-space: nowrap;
}
.mono {
  font-size: 11.5px;
  overflow-wrap: anywhere;
  min-width: 240px;
}
</style>
