import { computed, type ComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/**
 * The column of time that narrows a page, by its strips. It is part of the address: `cell=<begin>,<end>` in seconds of
 * the epoch; where it changes, what was paged through begins anew.
 */
export function useColumn(
  starts: () => readonly Date[],
  cellSeconds: () => number,
): {
  span: ComputedRef<{ from: Date; to: Date } | null>
  /** First and last cell chosen, of those shown. */
  cells: ComputedRef<[number, number] | null>
  choose: (cells: [number, number] | null) => void
} {
  const route = useRoute()
  const router = useRouter()
  const span = computed(() => {
    const match = /^(\d+),(\d+)$/.exec(String(route.query.cell ?? ''))
    return match ? { from: new Date(Number(match[1]) * 1000), to: new Date(Number(match[2]) * 1000) } : null
  })
  const cells = computed((): [number, number] | null => {
    const chosen = span.value
    if (!chosen) return null
    const inside = starts().flatMap((start, i) =>
      start.getTime() + cellSeconds() * 1000 > chosen.from.getTime() && start < chosen.to ? [i] : [],
    )
    return inside.length ? [inside[0]!, inside[inside.length - 1]!] : null
  })
  function choose(cells: [number, number] | null): void {
    const from = cells && starts()[cells[0]]
    const to = cells && starts()[cells[1]]
    const cell = from && to ? `${from.getTime() / 1000},${to.getTime() / 1000 + cellSeconds()}` : undefined
    void router.replace({ query: { ...route.query, page: undefined, cell } })
  }
  return { span, cells, choose }
}
