import { lengthSeconds } from './useWindow'

/** What was typed: a window that follows the clock, one that stands still, or what it is compared with. */
export type Typed = { last: string } | { from: Date; to: Date } | { then: string | Date | null }

const HELP =
  'Give a length (last 2h), a day (yesterday), times (14:00–15:00, yesterday 22:00–02:00), or two moments (2026-03-01 06:00 – 2026-03-02 06:00); then 7d compares with a week earlier.'

/**
 * The window that a text names, or what is wrong with the text. Times without a zone are the viewer's, or UTC where
 * that is shown. Lengths are in m, h and d. A second time of day before the first one is on the next day.
 */
export function typedTime(text: string, now: Date, isUtc = false): Typed | string {
  const given = text.trim().toLowerCase().replace(/\s+/g, ' ')
  if (given === '') return `Nothing was typed. ${HELP}`
  if (/^then\b/.test(given)) return typedThen(given.slice(4).trim(), now, isUtc)
  const length = /^(?:last )?(\d{1,4} ?[mhd])$/.exec(given)?.[1]?.replace(' ', '')
  if (length) {
    return lengthSeconds(length) ? { last: length } : `“${text.trim()}” has no length. ${HELP}`
  }
  const [first = '', second, ...more] = given.split(/ ?[–—] ?| - | to /)
  if (more.length > 0) return `“${text.trim()}” has more than two times. ${HELP}`
  const begin = moment(first, now, isUtc)
  if (!begin) return `“${first}” is no time. ${HELP}`
  if (second === undefined) {
    return begin.isDay
      ? within(begin.at, addDays(begin.at, 1, isUtc), now, text)
      : within(begin.at, now, now, text)
  }
  const end = moment(second, /^\d{1,2}:/.test(second) ? begin.at : now, isUtc)
  if (!end) return `“${second}” is no time. ${HELP}`
  const to = end.isDay ? addDays(end.at, 1, isUtc) : end.at
  const isNextDay = /^\d{1,2}:/.test(second) && to <= begin.at
  return within(begin.at, isNextDay ? addDays(to, 1, isUtc) : to, now, text)
}

/** What the window is compared with: so much earlier, or since a moment. */
function typedThen(given: string, now: Date, isUtc: boolean): Typed | string {
  if (given === 'none') return { then: null }
  const earlier = /^(\d{1,4}) ?([mhd])(?: earlier)?$/.exec(given)
  if (earlier && lengthSeconds(`${earlier[1]}${earlier[2]}`)) return { then: `${earlier[1]}${earlier[2]}` }
  const begin = moment(given, now, isUtc)
  if (!begin || begin.at >= now) {
    return `“then ${given}” is no earlier time. Give by how much it is earlier (then 7d), its begin (then yesterday 14:00), or then none.`
  }
  return { then: begin.at }
}

function within(from: Date, to: Date, now: Date, text: string): Typed | string {
  if (from >= now) return `“${text.trim()}” begins in the future.`
  if (to <= from) return `“${text.trim()}” ends before it begins: exchange the two times.`
  return { from, to: to > now ? now : to }
}

/** The moment in the past that a text names, or what is wrong with the text. */
export function typedMoment(text: string, now: Date, isUtc = false): Date | string {
  const given = text.trim().toLowerCase().replace(/\s+/g, ' ')
  const found = moment(given, now, isUtc)
  if (!found || found.at > now)
    return `“${text.trim()}” is no moment of the past. Give a time (03:12:40, yesterday 03:12), a moment (2026-03-01 06:00:30), or how long it is ago (20m ago).`
  return found.at
}

/** The moment that a text names; a day is its begin. */
function moment(text: string, day: Date, isUtc: boolean): { at: Date; isDay: boolean } | null {
  const back = /^(\d{1,4}) ?([mhd]) ago$/.exec(text)
  if (back) {
    const seconds = lengthSeconds(`${back[1]}${back[2]}`)
    return seconds ? { at: new Date(day.getTime() - seconds * 1000), isDay: false } : null
  }
  if (text === 'now') return { at: day, isDay: false }
  const match =
    /^(?:(today|yesterday|\d{4}-\d{2}-\d{2})[ t]?)?(?:(\d{1,2}):(\d{2})(?::(\d{2}))?(?:\.\d+)?(z| utc)?)?$/.exec(
      text,
    )
  if (!match || text === '') return null
  const [, date, hour, minute, second, zone] = match
  const inUtc = isUtc || zone !== undefined
  let begin = dayBegin(day, inUtc)
  if (date === 'yesterday') begin = addDays(begin, -1, inUtc)
  else if (date && date !== 'today') {
    const [year = 0, month = 0, dayOfMonth = 0] = date.split('-').map(Number)
    begin = inUtc ? new Date(Date.UTC(year, month - 1, dayOfMonth)) : new Date(year, month - 1, dayOfMonth)
    if ((inUtc ? begin.getUTCDate() : begin.getDate()) !== dayOfMonth) return null
  }
  if (hour === undefined) return { at: begin, isDay: true }
  const [h, m, s] = [Number(hour), Number(minute), Number(second ?? 0)]
  if (h > 24 || m > 59 || s > 59 || (h === 24 && m + s > 0)) return null
  const at = new Date(begin)
  if (inUtc) at.setUTCHours(h, m, s, 0)
  else at.setHours(h, m, s, 0)
  return { at, isDay: false }
}

function dayBegin(at: Date, isUtc: boolean): Date {
  const begin = new Date(at)
  if (isUtc) begin.setUTCHours(0, 0, 0, 0)
  else begin.setHours(0, 0, 0, 0)
  return begin
}

/** The same time of day some days later, also where one of the days has 23 or 25 hours. */
function addDays(at: Date, days: number, isUtc: boolean): Date {
  const later = new Date(at)
  if (isUtc) later.setUTCDate(later.getUTCDate() + days)
  else later.setDate(later.getDate() + days)
  return later
}
