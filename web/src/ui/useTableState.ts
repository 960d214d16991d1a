import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { parseOrder } from './table'

/**
 * How a table is looked at, as the address has it under the table's name: order, page, filters by column, columns.
 * A page whose server sorts and filters reads from here what to ask for.
 */
export function useTableState(name: string, firstOrder?: string) {
  const route = useRoute()
  const router = useRouter()
  const param = (what: string) => {
    const value = route.query[`${name}.${what}`]
    return typeof value === 'string' ? value : undefined
  }
  /** Changes parts of it, and goes back to the first page. */
  function go(change: Record<string, string | undefined>): void {
    const named = Object.fromEntries(Object.entries(change).map(([what, to]) => [`${name}.${what}`, to]))
    void router.replace({ query: { ...route.query, [`${name}.page`]: undefined, ...named } })
  }
  return {
    order: computed(() => parseOrder(param('sort') ?? firstOrder)),
    page: computed(() => Math.max(1, Math.floor(Number(param('page'))) || 1)),
    columns: computed(() => param('columns')),
    filter: (column: string) => param(`is.${column}`) ?? '',
    go,
  }
}
