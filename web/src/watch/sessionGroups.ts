import type { Schemas } from '../api/client'

type Row = Schemas['SessionOnServer']

/** What sessions can be counted by. */
export const GROUPS = ['account', 'program', 'client', 'database', 'state'] as const
export type GroupBy = (typeof GROUPS)[number]

/** Sessions that have something in common. */
export interface SessionGroup {
  name: string
  count: number
  waiting: number
  oldest: number | null
}

/** Sessions by what they have in common, the most first. `nameOf` tells what a session is counted by. */
export function grouped(rows: readonly Row[], nameOf: (row: Row) => string): SessionGroup[] {
  const groups = new Map<string, SessionGroup>()
  for (const row of rows) {
    const name = nameOf(row)
    const group = groups.get(name) ?? { name, count: 0, waiting: 0, oldest: null }
    group.count += 1
    group.waiting += row.blocked_by.length > 0 ? 1 : 0
    const age = row.transaction_seconds ?? null
    if (age !== null) group.oldest = Math.max(age, group.oldest ?? 0)
    groups.set(name, group)
  }
  return [...groups.values()].sort((a, b) => b.count - a.count)
}

/** Sessions in the lines of those who wait for locks; those not concerned are left out. */
export const inLines = (rows: readonly Row[]): Row[] =>
  rows.filter((row) => row.line != null).sort((a, b) => (a.line ?? 0) - (b.line ?? 0))
