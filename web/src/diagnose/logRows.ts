import type { Schemas } from '../api/client'
import { bytes, count, seconds } from '../format'
import type { StripRow } from '../pictures/StripStack.vue'

type Kind = Schemas['LogKind']

/** Kinds of log entries, the gravest first, in PostgreSQL's words. */
export const KINDS_OF_LOG: { kind: Kind; title: string; unit?: 'bytes' | 'seconds' }[] = [
  { kind: 'fatal', title: 'Fatal' },
  { kind: 'deadlock', title: 'Deadlock' },
  { kind: 'lock_timeout', title: 'Lock timeout' },
  { kind: 'cancelled', title: 'Cancelled' },
  { kind: 'error', title: 'Error' },
  { kind: 'warning', title: 'Warning' },
  { kind: 'lock_wait', title: 'Lock wait', unit: 'seconds' },
  { kind: 'temp_file', title: 'Temp file', unit: 'bytes' },
  { kind: 'checkpoint', title: 'Checkpoint', unit: 'seconds' },
  { kind: 'upkeep', title: 'Autovacuum', unit: 'seconds' },
  { kind: 'not_read', title: 'Not read', unit: 'bytes' },
]

/** What a kind is called. */
export function logTitle(kind: Kind): string {
  return KINDS_OF_LOG.find((one) => one.kind === kind)?.title ?? kind
}

/** What entries of a kind add up to, with its unit. */
export function logValue(kind: Kind, value: number): string {
  const unit = KINDS_OF_LOG.find((one) => one.kind === kind)?.unit
  return unit === 'bytes' ? bytes(value) : unit === 'seconds' ? seconds(value) : count(value)
}

/** A strip for each kind of which the window holds something; each on its own scale, as one deadlock counts. */
export function logRows(kinds: readonly Schemas['LogKindFigures'][]): StripRow[] {
  return kinds.map(({ kind, times, cells }) => ({
    key: kind,
    label: logTitle(kind),
    values: cells,
    ink: 'var(--muted)',
    figures: [count(times)],
    full: Math.max(...cells, 1),
    write: count,
  }))
}
