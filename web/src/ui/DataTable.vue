<script setup lang="ts" generic="T">
import { Dropdown, Menu, MenuItem, Pagination, Popover } from 'ant-design-vue'
import { computed, ref, watch } from 'vue'
import {
  chosenColumns,
  csv,
  download,
  filterFault,
  filtered,
  json,
  sorted,
  writeOrder,
  type Column,
} from './table'
import { count } from '../format'
import { useActions } from '../frame/pageActions'
import { useFirstThenRest } from './useFirstThenRest'
import { useTableState } from './useTableState'

/**
 * A table: sorted and filtered by any column, with the columns that one chooses, by pages, to be read by keyboard and
 * exported as it is shown. Its state is part of the address, by the table's name. Either it is loaded whole, or its
 * server sorts, filters and pages: then `matching` is given, and the page asks for what `useTableState` tells.
 */
const props = defineProps<{
  /** Its name in the address and of exported files. */
  name: string
  rows: readonly T[]
  columns: readonly Column<T>[]
  rowKey: (row: T) => string | number
  /** Order until another is chosen, such as `-size`; that of the rows when left out. */
  order?: string
  /** Rows on a page; 50 when left out. */
  pageSize?: number
  /** How many rows there are on the server, of which `rows` are one page. */
  matching?: number
  /** What one row is called, for the count. */
  one?: string
  /** What several are called; `one` with an s when left out. */
  many?: string
  /** All rows of the server, for an export. */
  everyRow?: () => Promise<readonly T[]>
  /** Window and source of the figures, said where one is pointed at. */
  figuresOf?: string
  /** Class of a row. */
  rowClass?: (row: T) => string | undefined
  /**
   * Its cells hold nothing of their own: where other rows are shown, they are drawn in the places of those before, which
   * takes half the time of making them anew. What holds something must be keyed by its row.
   */
  inPlace?: boolean
  /** A short list in a dialog: it can be sorted, and has no tools. */
  plain?: boolean
  /** Marks the table for tests. */
  test?: string
}>()
const emit = defineEmits<{
  /** All rows that pass the filters, in their order. */
  matching: [rows: readonly T[]]
}>()
const slots = defineSlots<{
  [cell: `cell-${string}`]: (props: { row: T }) => unknown
  /** Buttons at the end of each row. */
  actions?: (props: { row: T }) => unknown
  /** What stands before the tools, such as a search of the whole list. */
  tools?: () => unknown
  /** What is said when there are no rows at all. */
  empty?: () => unknown
}>()
const body = ref<HTMLElement | null>(null)
const showsFilters = ref(false)

const { go, ...state } = useTableState(props.name, props.order)
const isPaged = computed(() => props.matching !== undefined)
const sorts = (column: Column<T>) => column.sorts ?? !isPaged.value
const filters = (column: Column<T>) => column.filters ?? !isPaged.value

const by = state.order
const shown = computed(() => chosenColumns(props.columns, state.columns.value))
const filterable = computed(() => props.columns.filter(filters))
const given = computed(() => Object.fromEntries(filterable.value.map(({ key }) => [key, state.filter(key)])))
const isFiltered = computed(() => Object.values(given.value).some((filter) => filter.trim() !== ''))
const matching = computed(() =>
  isPaged.value
    ? props.rows
    : sorted(filtered(props.rows, props.columns, given.value), props.columns, by.value),
)
watch(matching, (rows) => emit('matching', rows), { immediate: true })
const total = computed(() => props.matching ?? matching.value.length)
const size = computed(() => props.pageSize ?? 50)
const pages = computed(() => Math.max(1, Math.ceil(total.value / size.value)))
const page = computed(() => Math.min(state.page.value, pages.value))
const onPage = computed(() =>
  isPaged.value ? props.rows : matching.value.slice((page.value - 1) * size.value, page.value * size.value),
)
const firstThenRest = useFirstThenRest(onPage)
const drawn = computed(() => (props.inPlace ? firstThenRest.value : onPage.value))
/** There is nothing at all, as opposed to nothing that passes the filters. */
const isEmpty = computed(() => props.rows.length === 0 && !isFiltered.value && state.page.value === 1)
const hasTotals = computed(() => shown.value.some((column) => column.total))

/** Filters that were typed and are none, with what is wrong, by column: they are not taken, and stay as typed. */
const faulty = ref<Record<string, { typed: string; fault: string }>>({})
function filterBy(column: Column<T>, typed: string): void {
  const fault = filterFault(column, typed)
  const others = Object.entries(faulty.value).filter(([key]) => key !== column.key)
  faulty.value = Object.fromEntries(fault ? [...others, [column.key, { typed, fault }]] : others)
  if (!fault) go({ [`is.${column.key}`]: typed || undefined })
}

/** One way, the other way, and back to the order of the list. */
function sortBy(column: Column<T>): void {
  const way = sorts(column)
  const first = way === true ? !column.number : way === 'ascending'
  const current = by.value?.column === column.key ? by.value.ascending : null
  const next = current === null ? first : current === first && way === true ? !first : null
  go({ sort: next === null ? undefined : writeOrder({ column: column.key, ascending: next }) })
}
const direction = (column: Column<T>) =>
  by.value?.column === column.key ? (by.value.ascending ? 'ascending' : 'descending') : 'none'
const text = (column: Column<T>, row: T) => column.text?.(row) ?? String(column.value(row) ?? '–')

function show(key: string, isShown: boolean): void {
  const keys = shown.value.map((column) => column.key)
  const next = isShown ? [...keys, key] : keys.filter((other) => other !== key)
  if (next.length > 0) go({ columns: next.join(',') })
}
function move(key: string, by: number): void {
  const keys = shown.value.map((column) => column.key)
  const at = keys.indexOf(key)
  const there = at + by
  if (there < 0 || there >= keys.length) return
  ;[keys[at], keys[there]] = [keys[there]!, keys[at]!]
  go({ columns: keys.join(',') })
}
const saving = ref('')
async function save(kind: 'csv' | 'json'): Promise<void> {
  const write = kind === 'csv' ? csv : json
  const type = kind === 'csv' ? 'text/csv' : 'application/json'
  saving.value = 'The file is being made …'
  try {
    const rows = props.everyRow ? await props.everyRow() : matching.value
    download(`hurnix-${props.name}.${kind}`, type, write(rows, shown.value))
    saving.value = ''
  } catch {
    saving.value = 'The server did not give the rows. Retry the export.'
  }
}
useActions(() =>
  props.plain || isEmpty.value
    ? []
    : [
        { title: `Export ${props.name} as CSV`, run: () => void save('csv') },
        { title: `Export ${props.name} as JSON`, run: () => void save('json') },
      ],
)
const rowWord = computed(() =>
  total.value === 1 && !isFiltered.value ? (props.one ?? 'row') : (props.many ?? `${props.one ?? 'row'}s`),
)

/** Rows are read with the arrow keys; Enter goes where the row's first link goes. */
function key(event: KeyboardEvent, at: number): void {
  if (event.target !== event.currentTarget) return
  const last = onPage.value.length - 1
  const to = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: last }[event.key]
  const rows = body.value?.children
  if (to !== undefined) (rows?.[Math.min(Math.max(to, 0), last)] as HTMLElement | undefined)?.focus()
  else if (event.key === 'Enter') rows?.[at]?.querySelector('a')?.click()
  else return
  event.preventDefault()
}
</script>

<template>
  <div class="data-table">
    <div v-if="!plain && (!isEmpty || slots.tools)" class="tools no-print">
      <slot name="tools" />
      <span v-if="!isEmpty" class="muted" aria-live="polite"
        ><template v-if="saving">{{ saving }}</template
        ><template v-else
          ><template v-if="isFiltered && !isPaged">{{ count(matching.length) }} of </template
          >{{ count(isPaged ? total : rows.length) }} {{ rowWord }}</template
        ></span
      >
      <button
        v-if="!isEmpty && filterable.length > 0"
        type="button"
        :aria-pressed="showsFilters || isFiltered"
        @click="showsFilters = !showsFilters"
      >
        Filter
      </button>
      <Popover v-if="!isEmpty" trigger="click" placement="bottomRight">
        <template #content>
          <ul class="columns">
            <li v-for="column in columns" :key="column.key">
              <label>
                <input
                  type="checkbox"
                  :checked="shown.includes(column)"
                  @change="(event) => show(column.key, (event.target as HTMLInputElement).checked)"
                />
                {{ column.title }}
              </label>
              <template v-if="shown.includes(column)">
                <button type="button" :aria-label="`Move ${column.title} left`" @click="move(column.key, -1)">
                  ←
                </button>
                <button type="button" :aria-label="`Move ${column.title} right`" @click="move(column.key, 1)">
                  →
                </button>
              </template>
            </li>
          </ul>
        </template>
        <button type="button">Columns</button>
      </Popover>
      <Dropdown v-if="!isEmpty" :trigger="['click']" placement="bottomRight">
        <button type="button" aria-haspopup="menu">Export</button>
        <template #overlay>
          <Menu>
            <MenuItem key="csv" @click="save('csv')">CSV</MenuItem>
            <MenuItem key="json" @click="save('json')">JSON</MenuItem>
          </Menu>
        </template>
      </Dropdown>
    </div>
    <slot v-if="isEmpty" name="empty" />
    <table v-else class="figures" :data-test="test">
      <thead>
        <tr>
          <th
            v-for="column in shown"
            :key="column.key"
            :class="{ number: column.number, wide: column.wide }"
            :aria-sort="sorts(column) ? direction(column) : undefined"
          >
            <span v-if="!sorts(column)" :title="column.hint">{{ column.title }}</span>
            <button
              v-else
              type="button"
              class="sort"
              :title="column.hint"
              :aria-pressed="by?.column === column.key"
              @click="sortBy(column)"
            >
              {{ column.title
              }}{{
                direction(column) === 'ascending' ? ' ↑' : direction(column) === 'descending' ? ' ↓' : ''
              }}
            </button>
          </th>
          <th v-if="slots.actions" class="no-print"></th>
        </tr>
        <tr v-if="showsFilters || isFiltered" class="filters no-print">
          <td v-for="column in shown" :key="column.key">
            <input
              v-if="filters(column)"
              type="search"
              :value="faulty[column.key]?.typed ?? given[column.key]"
              :placeholder="column.number ? '>5, 2..9' : 'contains'"
              :aria-label="`Filter ${column.title}`"
              :aria-invalid="column.key in faulty"
              @change="(event) => filterBy(column, (event.target as HTMLInputElement).value)"
            />
            <em v-if="faulty[column.key]" role="alert">{{ faulty[column.key]?.fault }}</em>
          </td>
          <td v-if="slots.actions"></td>
        </tr>
      </thead>
      <tbody ref="body">
        <tr
          v-for="(row, at) in drawn"
          :key="inPlace ? at : rowKey(row)"
          :class="rowClass?.(row)"
          :tabindex="at === 0 ? 0 : -1"
          @keydown="key($event, at)"
        >
          <td
            v-for="column in shown"
            :key="column.key"
            :class="{ number: column.number, wide: column.wide }"
            :title="
              column.number && figuresOf
                ? `${column.hint ?? column.title}: ${text(column, row)}; ${figuresOf}`
                : undefined
            "
          >
            <slot :name="`cell-${column.key}`" :row="row">{{ text(column, row) }}</slot>
          </td>
          <td v-if="slots.actions" class="no-print"><slot name="actions" :row="row" /></td>
        </tr>
        <tr v-if="onPage.length === 0">
          <td :colspan="shown.length" class="muted">
            <template v-if="isFiltered">No row passes the filters.</template>
            <template v-else>There is no page {{ state.page.value }} any more.</template>
            <button
              type="button"
              class="clear"
              @click="go(Object.fromEntries(columns.map((column) => [`is.${column.key}`, undefined])))"
            >
              {{ isFiltered ? 'Clear filters' : 'First page' }}
            </button>
          </td>
        </tr>
      </tbody>
      <tfoot v-if="hasTotals && onPage.length > 0">
        <tr>
          <td v-for="column in shown" :key="column.key" :class="{ number: column.number }">
            {{ column.total?.(matching) }}
          </td>
          <td v-if="slots.actions" class="no-print"></td>
        </tr>
      </tfoot>
    </table>
    <Pagination
      v-if="pages > 1"
      class="no-print"
      :current="page"
      :page-size="size"
      :total="total"
      :show-size-changer="false"
      size="small"
      @change="(to: number) => go({ page: String(to) })"
    />
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  justify-content: end;
  align-items: baseline;
  gap: 12px;
  font-size: 12.5px;
  margin-bottom: 4px;
}
.tools button,
.columns button,
.clear {
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  padding: 0;
  min-height: 24px;
  min-width: 24px;
  text-decoration: underline;
  cursor: pointer;
}
.tools button[aria-pressed='true'] {
  color: var(--plum);
  font-weight: 700;
}
.columns {
  list-style: none;
  margin: 0;
  padding: 0;
}
.columns li {
  display: flex;
  gap: 10px;
}
.columns label {
  flex: 1;
  min-width: 140px;
}
.columns button {
  text-decoration: none;
}
thead th {
  position: sticky;
  top: -12px;
  background: var(--sheet);
  z-index: 1;
}
.filters input {
  width: 100%;
  min-width: 50px;
  font: inherit;
  font-size: 12.5px;
  color: inherit;
  background: var(--paper);
  border: 1px solid var(--rule);
  min-height: 24px;
  padding: 0 4px;
}
.filters em {
  display: block;
  max-width: 180px;
  white-space: normal;
  font-size: 12px;
  font-style: normal;
  color: var(--warn);
}
.wide {
  width: 100%;
  max-width: 0;
}
tfoot td {
  font-weight: 700;
  border-top: 1px solid var(--ink);
}
</style>
