import { describe, expect, it } from 'vitest'
import { useSort } from './useSort'

const rows = [
  { name: 'mate', size: 2 },
  { name: 'pilot', size: null },
  { name: 'lighthouse', size: 9 },
]
const columns = {
  name: (row: (typeof rows)[number]) => row.name,
  size: (row: (typeof rows)[number]) => row.size,
}

describe('a sorted table', () => {
  it('keeps the given order until a column is chosen', () => {
    const { sorted, sorting } = useSort(() => rows, columns)
    const names = () => sorted.value.map((row) => row.name)
    expect(names()).toEqual(['mate', 'pilot', 'lighthouse'])
    sorting.by('name')
    expect(names()).toEqual(['lighthouse', 'mate', 'pilot'])
    sorting.by('name')
    expect(names()).toEqual(['pilot', 'mate', 'lighthouse'])
  })

  it('puts the largest first and what is not known last, either way', () => {
    const { sorted, sorting } = useSort(() => rows, columns, 'size')
    const names = () => sorted.value.map((row) => row.name)
    expect(names()).toEqual(['lighthouse', 'mate', 'pilot'])
    sorting.by('size')
    expect(names()).toEqual(['mate', 'lighthouse', 'pilot'])
  })
})
