import type { Schemas } from '../api/client'
import { KINDS } from '../pictures/kinds'
import { bytes, milliseconds, number, percent, seconds } from '../format'

type Change = Schemas['Change']

/** What changed, in words: of a statement, or of the server. */
export function whatChanged(change: Pick<Change, 'measured' | 'object'>, ofServer: boolean): string {
  const kind = KINDS.find((one) => one.key === change.object)?.label ?? change.object
  switch (change.measured) {
    case 'time_per_call':
      return 'time per call'
    case 'calls':
      return 'calls'
    case 'rows_per_call':
      return 'rows per call'
    case 'pages_per_call':
      return 'pages per call'
    case 'waits':
      return kind === 'running'
        ? 'running sessions'
        : ofServer
          ? `sessions waiting: ${kind}`
          : `waits per call: ${kind}`
    case 'load':
      return 'busy sessions'
    case 'metric':
      return change.object.replaceAll('_', ' ')
  }
}

const UNITS: Record<Schemas['Unit'], (value: number) => string> = {
  count: number,
  bytes,
  seconds,
  share: percent,
  per_second: (value) => `${number(value)}/s`,
  bytes_per_second: (value) => `${bytes(value)}/s`,
  cores: (value) => `${number(value)} cores`,
  watts: (value) => `${number(value)} W`,
}

/** A value with its unit. */
export const inUnit = (value: number, unit: Schemas['Unit']): string => UNITS[unit](value)

/** A level of what changed, with its unit where it has one of its own. */
export function level(change: Pick<Change, 'measured' | 'unit'>, value: number, ofServer: boolean): string {
  if (change.measured === 'time_per_call' || (change.measured === 'waits' && !ofServer))
    return milliseconds(value)
  if (change.measured === 'calls') return `${number(value)}/s`
  return change.unit ? UNITS[change.unit](value) : number(value)
}

/** How it stands, in a word. */
export function standing(change: Change): string {
  if (change.passed) return 'passed'
  if (change.until != null) return 'over'
  return change.answer?.answer ?? 'holds'
}
