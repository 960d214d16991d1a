import { describe, expect, it } from 'vitest'
import {
  chosenColumns,
  csv,
  filtered,
  filterFault,
  json,
  parseOrder,
  passes,
  sorted,
  writeOrder,
  type Column,
} from './table'

interface Row {
  name: string
  size: number | null
}
const rows: Row[] = [
  { name: 'quay-10', size: 5 },
  { name: 'quay-9', size: null },
  { name: 'ledger, old', size: 70 },
]
const columns: Column<Row>[] = [
  { key: 'name', title: 'name', value: (row) => row.name },
  { key: 'size', title: 'size', number: true, value: (row) => row.size },
]
const names = (found: Row[]) => found.map((row) => row.name)

describe('rows of a table', () => {
  it('are sorted by text with its numbers, or by size, with what is not known last', () => {
    expect(names(sorted(rows, columns, parseOrder('name')))).toEqual(['ledger, old', 'quay-9', 'quay-10'])
    expect(names(sorted(rows, columns, parseOrder('-size')))).toEqual(['ledger, old', 'quay-10', 'quay-9'])
    expect(names(sorted(rows, columns, parseOrder('size')))).toEqual(['quay-10', 'ledger, old', 'quay-9'])
    expect(sorted(rows, columns, parseOrder('no such!'))).toEqual(rows)
    expect(writeOrder(parseOrder('-size')!)).toBe('-size')
  })

  it('are filtered by all columns that have a filter', () => {
    expect(names(filtered(rows, columns, { name: 'QUAY', size: '' }))).toEqual(['quay-10', 'quay-9'])
    expect(names(filtered(rows, columns, { name: 'quay', size: '>=5' }))).toEqual(['quay-10'])
  })

  it('are not filtered by what is no filter of a number', () => {
    const size = columns[1]!
    for (const right of ['', '5', '>5', '>= 0.5', '<-2', '2..9', ' 7 '])
      expect(filterFault(size, right)).toBe('')
    for (const wrong of ['many', '>', '1..', '5 MB', '=5'])
      expect(filterFault(size, wrong)).toContain(`“${wrong}”`)
    expect(filterFault(columns[0]!, '5 MB')).toBe('')
  })

  it('pass a filter of numbers by bound, range or equality', () => {
    const all = [1, 5, 9, null]
    const pass = (filter: string) => all.filter((value) => passes(value, filter))
    expect(pass('>5')).toEqual([9])
    expect(pass('<= 5')).toEqual([1, 5])
    expect(pass('2..9')).toEqual([5, 9])
    expect(pass('5')).toEqual([5])
    expect(pass('five')).toEqual([])
    expect(pass('')).toEqual(all)
  })
})

describe('columns of a table', () => {
  it('are those that are chosen, in that order', () => {
    expect(chosenColumns(columns, 'size,name,tide').map((column) => column.key)).toEqual(['size', 'name'])
    expect(chosenColumns(columns, undefined)).toEqual(columns)
    expect(chosenColumns(columns, 'tide')).toEqual(columns)
  })
})

describe('what is exported', () => {
  it('is what is shown, and no formula', () => {
    const odd = [...rows, { name: '=SUM(A1)', size: -1 }]
    expect(csv(odd, columns)).toBe(
      'name,size\r\nquay-10,5\r\nquay-9,\r\n"ledger, old",70\r\n\'=SUM(A1),-1\r\n',
    )
    expect(JSON.parse(json(rows, [columns[1]!]))).toEqual([{ size: 5 }, { size: null }, { size: 70 }])
  })
})
