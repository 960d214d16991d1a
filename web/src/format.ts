/** Figures in words. Numbers always carry their unit; what is not known is a dash. */
import { ref } from 'vue'

export const NOT_KNOWN = '–'

const THIN = '\u202f'
/** Between a number and its unit: no line ends there. */
const GAP = '\u00a0'

/** A number with about three significant digits and spaces between thousands. */
export function number(value: number | null | undefined): string {
  if (value == null || !Number.isFinite(value)) return NOT_KNOWN
  const size = Math.abs(value)
  if (size === 0) return '0'
  if (size < 0.001) return '<0.001'
  const digits = Number.isInteger(value) || size >= 100 ? 0 : size >= 10 ? 1 : size >= 1 ? 2 : 3
  const text = value.toFixed(digits)
  const [whole = '', fraction] = text.split('.')
  const grouped = whole.replace(/\B(?=(\d{3})+(?!\d))/g, THIN)
  return fraction === undefined ? grouped : `${grouped}.${fraction}`
}

/** A whole number with spaces between thousands. */
export function count(value: number | null | undefined): string {
  if (value == null || !Number.isFinite(value)) return NOT_KNOWN
  return Math.round(value)
    .toString()
    .replace(/\B(?=(\d{3})+(?!\d))/g, THIN)
}

/** A whole number of things: "1 row", "2 rows". */
export function counted(value: number, one: string): string {
  return `${count(value)} ${one}${value === 1 ? '' : 's'}`
}

/** A length of time given in milliseconds, in the unit that suits it. */
export function milliseconds(value: number | null | undefined): string {
  if (value == null || !Number.isFinite(value)) return NOT_KNOWN
  const size = Math.abs(value)
  if (size !== 0 && size < 1) return `${number(value * 1000)}${GAP}µs`
  if (size < 1000) return `${number(value)}${GAP}ms`
  return seconds(value / 1000)
}

/** A length of time given in seconds, in the unit that suits it. */
export function seconds(value: number | null | undefined): string {
  if (value == null || !Number.isFinite(value)) return NOT_KNOWN
  const size = Math.abs(value)
  if (size !== 0 && size < 1) return `${number(value * 1000)}${GAP}ms`
  if (size < 120) return `${number(value)}${GAP}s`
  if (size < 7200) return `${number(value / 60)}${GAP}min`
  if (size < 172_800) return `${number(value / 3600)}${GAP}h`
  return `${number(value / 86_400)}${GAP}d`
}

/** Two lengths of time from one to the other, in the unit of the longer. */
export function secondsBetween(from: number, to: number): string {
  const [unit, of] =
    to >= 7200 ? (['h', 3600] as const) : to >= 120 ? (['min', 60] as const) : (['s', 1] as const)
  return `${number(from / of)} to ${number(to / of)}${GAP}${unit}`
}

const SOURCES: Record<string, string> = {
  fine: 'figures as read',
  ten_minutes: 'from sums over ten minutes',
  hour: 'from sums over an hour',
  day: 'from sums over a day',
}

/** How finely the figures of a window are kept, in words. */
export function source(detail: string): string {
  return SOURCES[detail] ?? detail
}

/** A size given in bytes. */
export function bytes(value: number | null | undefined): string {
  if (value == null || !Number.isFinite(value)) return NOT_KNOWN
  const units = ['B', 'kB', 'MB', 'GB', 'TB']
  let rest = value
  let unit = 0
  while (Math.abs(rest) >= 1024 && unit < units.length - 1) {
    rest /= 1024
    unit += 1
  }
  return `${number(rest)}${GAP}${units[unit]}`
}

/** A share from 0 to 1 in per cent. */
export function percent(share: number | null | undefined): string {
  if (share == null || !Number.isFinite(share)) return NOT_KNOWN
  return `${number(share * 100)}${GAP}%`
}

/** "81 times as long" or "a third of the time": a ratio of times in words. */
export function timesAs(ratio: number): string {
  return ratio >= 1 ? `${number(ratio)} times as long` : `${number(1 / ratio)} times as fast`
}

/** Whether times are shown in UTC, and not in the viewer's zone. The frame sets it from the address. */
export const inUtc = ref(false)

/** Clock time in the zone shown; with the day when it is not today's. */
export function clock(time: Date | string | null | undefined, now: Date, withSeconds = true): string {
  if (time == null) return NOT_KNOWN
  const [day, hours] = parts(new Date(time))
  const text = withSeconds ? hours : hours.slice(0, 5)
  return day === parts(now)[0] ? text : `${day} ${text}`
}

/** From when to when, in the zone shown: with both days where it goes over midnight. */
export function between({ from, to }: { from: Date | string; to: Date | string }): string {
  const [fromDay, fromHours] = parts(new Date(from))
  const [toDay, toHours] = parts(new Date(to))
  return fromDay === toDay
    ? `${clock(from, new Date())} – ${toHours}`
    : `${fromDay} ${fromHours} – ${toDay} ${toHours}`
}

/** Day and time of day in the zone shown. */
function parts(at: Date): [string, string] {
  const shown = inUtc.value ? at : new Date(at.getTime() - at.getTimezoneOffset() * 60_000)
  return Number.isNaN(shown.getTime())
    ? [NOT_KNOWN, NOT_KNOWN]
    : [shown.toISOString().slice(0, 10), shown.toISOString().slice(11, 19)]
}

/** How long ago, roughly. */
export function ago(time: Date | string | null | undefined, now: Date): string {
  if (time == null) return NOT_KNOWN
  const past = (now.getTime() - new Date(time).getTime()) / 1000
  return past < 2 ? 'just now' : `${seconds(Math.max(0, Math.round(past)))} ago`
}

/** Name of the time zone shown. */
export function zone(): string {
  return inUtc.value ? 'UTC' : Intl.DateTimeFormat().resolvedOptions().timeZone
}

/** The order of names, figures in them by their value. One for all: each made anew takes longer than what it orders. */
export const byName = new Intl.Collator(undefined, { numeric: true }).compare
