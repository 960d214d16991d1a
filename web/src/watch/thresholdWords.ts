import type { Schemas } from '../api/client'
import { inUnit } from '../diagnose/measured'
import { seconds } from '../format'

export type ThresholdRow = Schemas['ThresholdFigures']
type Set = Pick<ThresholdRow, 'side' | 'value' | 'clears_at' | 'lasts_minutes'>

/** In which unit the value of a threshold is typed, and how many of the figure's own that is. */
export const TYPED: Record<Schemas['Unit'], { word: string; of: number }> = {
  count: { word: '', of: 1 },
  bytes: { word: 'MB', of: 1024 ** 2 },
  bytes_per_second: { word: 'MB/s', of: 1024 ** 2 },
  seconds: { word: 's', of: 1 },
  share: { word: '%', of: 0.01 },
  per_second: { word: '/s', of: 1 },
  cores: { word: 'cores', of: 1 },
  watts: { word: 'W', of: 1 },
}

/** A value as it is typed; without the digits that arithmetic adds. */
export const typed = (value: number, unit: Schemas['Unit']) =>
  Number((value / TYPED[unit].of).toPrecision(12))

/** For whom a threshold is. */
export const whose = (row: Pick<ThresholdRow, 'instance' | 'group'>) =>
  row.instance ?? (row.group ? `group ${row.group}` : 'all instances')

/** When a threshold raises an alarm, and when that is over. */
export function condition(row: Set, unit: Schemas['Unit']): string {
  const side = row.side === 'high' ? 'above' : 'below'
  const lasts = row.lasts_minutes > 0 ? ` for ${seconds(row.lasts_minutes * 60)}` : ''
  const clears = row.clears_at
  const over = clears == null || clears === row.value ? '' : `; over at ${inUnit(clears, unit)}`
  return `${side} ${inUnit(row.value, unit)}${lasts}${over}`
}
