import type { Schemas } from '../api/client'
import { number } from '../format'

type Use = Schemas['ColumnUseFigures']

/** What statements do with a column, in words. */
export const USES: Record<Schemas['ColumnUse'], string> = {
  equality: 'equality',
  join: 'join',
  range: 'range',
  beginning: 'prefix',
  contents: 'containment',
  order: 'order',
  set: 'update',
}

/** All uses with how often, the most frequent first. */
export function usesInWords(uses: readonly Use[]): string {
  const byCalls = [...uses].sort((a, b) => b.calls_per_day - a.calls_per_day)
  return byCalls.map((use) => `${USES[use.does]} ${number(use.calls_per_day)}`).join(', ')
}

/** Calls per day of the use that most statements make to find rows; 0 where none does. */
export function searchesPerDay(uses: readonly Use[]): number {
  return Math.max(0, ...uses.filter((use) => use.does !== 'set').map((use) => use.calls_per_day))
}
