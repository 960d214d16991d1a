import type { Schemas } from '../api/client'
import type { Column, Value } from '../ui/table'
import { bytes, clock, milliseconds, number, percent, seconds } from '../format'

type Measure = Schemas['Measure']
type Cells = Schemas['ReportTable']['rows'][number]

/** Whether cells of a column are numbers, which stand at the right. */
export const isNumber = (unit: Measure): boolean => !['text', 'code', 'time'].includes(unit)

/** A cell of a report in words, in the unit of its column. */
export function written(cell: unknown, unit: Measure): string {
  if (typeof cell === 'string') return unit === 'time' ? clock(cell, new Date()) : cell
  if (typeof cell !== 'number') return ''
  switch (unit) {
    case 'seconds':
      return seconds(cell)
    case 'milliseconds':
      return milliseconds(cell)
    case 'bytes':
      return bytes(cell)
    case 'share':
      return percent(cell)
    case 'per_second':
      return `${number(cell)}/s`
    case 'times':
      return `× ${number(cell)}`
    default:
      return number(cell)
  }
}

/** The columns of a table of a report, in the units of the report. */
export function columns(table: Schemas['ReportTable']): Column<Cells>[] {
  return table.columns.map((column, at) => ({
    key: column.name,
    title: column.title,
    number: isNumber(column.unit),
    value: (row) => row[at] as Value,
    text: (row) => written(row[at], column.unit),
  }))
}
