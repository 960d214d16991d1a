import { computed, reactive, type ComputedRef } from 'vue'

type Key = string | number | null | undefined

/** By which column the rows of a table are sorted. */
export interface Sorting {
  column: string
  ascending: boolean
  by: (column: string) => void
}

/**
 * Rows of a table that is loaded whole, sorted by a column that is chosen. Texts sort as they are read, numbers by
 * size; what is not known comes last either way. Rows alike keep their order. `columns` says by what each column
 * sorts; texts begin ascending, numbers descending. While `first` names no column, the order stays the given one.
 */
export function useSort<T>(
  rows: () => readonly T[],
  columns: Record<string, (row: T) => Key>,
  first = '',
): { sorted: ComputedRef<T[]>; sorting: Sorting } {
  const isText = (column: string) => {
    const known = rows().map((row) => columns[column]?.(row))
    return typeof known.find((key) => key != null) === 'string'
  }
  const sorting: Sorting = reactive({
    column: first,
    ascending: false,
    by(column: string) {
      sorting.ascending = sorting.column === column ? !sorting.ascending : isText(column)
      sorting.column = column
    },
  })
  const compare = (a: Key, b: Key): number => {
    if (a == null || b == null) return Number(a == null) - Number(b == null)
    const order = typeof a === 'string' ? a.localeCompare(String(b)) : Number(a) - Number(b)
    return sorting.ascending ? order : -order
  }
  const sorted = computed(() => {
    const of = columns[sorting.column]
    return of ? [...rows()].sort((a, b) => compare(of(a), of(b))) : [...rows()]
  })
  return { sorted, sorting }
}
