import { byName } from '../format'

/** What a column holds in one row: a text, a number, or nothing that is known. */
export type Value = string | number | null | undefined

/** A column of a table. */
export interface Column<T> {
  key: string
  title: string
  /** Shown when the head is pointed at. */
  hint?: string
  /** Numbers stand at the right, and are compared by size. */
  number?: boolean
  /** It takes the room that the others leave. */
  wide?: boolean
  /** It is not shown until somebody chooses it. */
  aside?: boolean
  /**
   * Whether rows can be sorted by it, and if only one way, which. All columns of a whole table can be, and those of a
   * paged one that say so.
   */
  sorts?: boolean | 'ascending' | 'descending'
  /** Likewise whether rows can be filtered by it. */
  filters?: boolean
  /** What it is sorted, filtered and exported by. */
  value: (row: T) => Value
  /** How it is written; as it is when left out. A slot of the table may write it otherwise. */
  text?: (row: T) => string
  /** What stands in the row of totals. */
  total?: (rows: readonly T[]) => string
}

/** An order: a column, and whether it goes up. */
export interface Order {
  column: string
  ascending: boolean
}

/** An order as an address has it: `size`, or `-size` for the largest first. */
export function parseOrder(text: unknown): Order | null {
  const match = /^(-?)([\w-]+)$/.exec(String(text ?? ''))
  return match ? { column: match[2]!, ascending: match[1] === '' } : null
}
export function writeOrder(order: Order): string {
  return `${order.ascending ? '' : '-'}${order.column}`
}

/** Rows in an order. What is not known comes last either way; rows alike keep their order. */
export function sorted<T>(rows: readonly T[], columns: readonly Column<T>[], order: Order | null): T[] {
  const of = columns.find((column) => column.key === order?.column)?.value
  if (!of || !order) return [...rows]
  const compare = (a: Value, b: Value): number => {
    if (a == null || b == null) return Number(a == null) - Number(b == null)
    const up = typeof a === 'string' ? byName(a, String(b)) : Number(a) - Number(b)
    return order.ascending ? up : -up
  }
  return [...rows].sort((a, b) => compare(of(a), of(b)))
}

const RANGE = /^(-?\d+(?:\.\d+)?) *\.\. *(-?\d+(?:\.\d+)?)$/
const BOUND = /^(>=|<=|>|<)?\s*(-?\d+(?:\.\d+)?)$/

/**
 * Whether a value passes a filter. Of a text a part, whatever its case; of a number `5`, `>5`, `>=5`, `<5`, `<=5` or
 * `5..9`, in the unit of the value itself. What is not known passes no filter.
 */
export function passes(value: Value, filter: string): boolean {
  const wanted = filter.trim().toLowerCase()
  if (wanted === '') return true
  if (value == null) return false
  if (typeof value === 'string') return value.toLowerCase().includes(wanted)
  const [range, bound] = [RANGE.exec(wanted), BOUND.exec(wanted)]
  if (range) return value >= Number(range[1]) && value <= Number(range[2])
  if (!bound) return false
  const limit = Number(bound[2])
  switch (bound[1]) {
    case '>':
      return value > limit
    case '>=':
      return value >= limit
    case '<':
      return value < limit
    case '<=':
      return value <= limit
    default:
      return value === limit
  }
}

/** What is wrong with a filter; nothing when it is right. */
export function filterFault<T>(column: Column<T>, filter: string): string {
  const wanted = filter.trim()
  if (!column.number || wanted === '' || RANGE.test(wanted) || BOUND.test(wanted)) return ''
  return `“${wanted}” is no filter of a number: give 5, >5, >=5, <5, <=5 or 5..9.`
}

/** Rows that pass all filters, which are by column. */
export function filtered<T>(
  rows: readonly T[],
  columns: readonly Column<T>[],
  filters: Record<string, string>,
): T[] {
  const active = columns.filter((column) => filters[column.key]?.trim())
  return rows.filter((row) => active.every((column) => passes(column.value(row), filters[column.key]!)))
}

/** Columns in an order of their own, as an address has it; those that it does not name are not shown. */
export function chosenColumns<T>(columns: readonly Column<T>[], text: unknown): Column<T>[] {
  const named = String(text ?? '').split(',')
  const chosen = named
    .map((key) => columns.find((column) => column.key === key))
    .filter((one) => one !== undefined)
  return chosen.length > 0 ? chosen : columns.filter((column) => !column.aside)
}

/** Rows as comma-separated values (RFC 4180). A text that a spreadsheet would take for a formula is marked as text. */
export function csv<T>(rows: readonly T[], columns: readonly Column<T>[]): string {
  const field = (value: Value) => {
    const text = value == null ? '' : String(value)
    const safe = typeof value === 'string' && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe
  }
  const lines = [
    columns.map((column) => column.title),
    ...rows.map((row) => columns.map((one) => one.value(row))),
  ]
  return lines.map((line) => line.map(field).join(',')).join('\r\n') + '\r\n'
}

/** Rows as JSON: an object each, by the names of the columns. */
export function json<T>(rows: readonly T[], columns: readonly Column<T>[]): string {
  const object = (row: T) =>
    Object.fromEntries(columns.map((column) => [column.key, column.value(row) ?? null]))
  return JSON.stringify(rows.map(object), null, 2)
}

/** Rows that a server gives at a time, at most. */
const MOST_AT_A_TIME = 200

/** All rows of a list that its server gives by pages. */
export async function everyPage<T>(
  ask: (page: number, pageSize: number) => Promise<{ matching: number; rows: readonly T[] }>,
): Promise<T[]> {
  const all: T[] = []
  for (let page = 1; ; page++) {
    const { matching, rows } = await ask(page, MOST_AT_A_TIME)
    all.push(...rows)
    if (all.length >= matching || rows.length === 0) return all
  }
}

/** Gives a text to whoever looks at the page, as a file. */
export function download(name: string, type: string, text: string): void {
  const address = URL.createObjectURL(new Blob([text], { type }))
  const link = document.createElement('a')
  link.href = address
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(address))
}
