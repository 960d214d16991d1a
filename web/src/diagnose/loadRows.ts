import type { Schemas } from '../api/client'
import { counted, number } from '../format'
import { KINDS, kindInk } from '../pictures/kinds'
import type { StripRow } from '../pictures/StripStack.vue'

type Cell = { load: Schemas['LoadFigures'] }

const sessions = (value: number) => number(value)

/** The figure that a row is of. */
export const figureOf = (row: string) => (row === 'total' ? 'load' : `wait_${row}`)

/**
 * Rows of load: the total, then each wait kind, all kinds on one scale. `quiet` keeps kinds without load; `before` is
 * the load of the window compared with. Processors of the host are drawn beside what runs on them.
 */
export function loadRows(
  cells: Cell[],
  whole: Schemas['LoadFigures'],
  quiet: boolean,
  before?: Schemas['LoadFigures'] | null,
  cpus?: number | null,
): StripRow[] {
  const compared = (value: number | null | undefined) => (before ? [number(value)] : [])
  const totals = cells.map((cell) => cell.load.total ?? null)
  const most = Math.max(...totals.map((total) => total ?? 0), 0)
  const peak = (values: (number | null)[]) => {
    const known = values.filter((value) => value !== null)
    return known.length ? number(Math.max(...known)) : number(null)
  }
  const kinds = KINDS.map((kind, position): StripRow => {
    const values = cells.map((cell) => cell.load.kinds[position] ?? null)
    const isRunning = kind.key === 'running'
    return {
      key: kind.key,
      label: isRunning && cpus ? `${kind.label} of ${counted(cpus, 'processor')}` : kind.label,
      hint: kind.plain,
      limit: isRunning ? (cpus ?? undefined) : undefined,
      kind: position,
      values,
      ink: kindInk(position),
      figures: [number(whole.kinds[position]), peak(values), ...compared(before?.kinds[position])],
      full: 0,
      write: sessions,
    }
  })
  const full = Math.max(...kinds.flatMap((row) => row.values.map((value) => value ?? 0)), 0.05)
  for (const row of kinds) row.full = full
  const total: StripRow = {
    key: 'total',
    label: 'busy sessions',
    hint: 'mean number of sessions that were not idle',
    values: totals,
    ink: 'url(#ink-plum)',
    figures: [number(whole.total), peak(totals), ...compared(before?.total)],
    full: Math.max(most, 0.05),
    tall: true,
    write: sessions,
  }
  return [total, ...(quiet ? kinds : kinds.filter((row) => row.values.some((value) => (value ?? 0) > 0)))]
}
