import { inUtc } from '../format'

const STEPS = [
  1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400, 21_600, 43_200, 86_400, 172_800,
  604_800,
]
const HOUR = 3600

/** How far the clock shown is behind UTC at a moment, in milliseconds. */
const behind = (moment: Date) => (inUtc.value ? 0 : moment.getTimezoneOffset() * 60_000)

/** What the clock shows at a moment, as if it were UTC, in milliseconds. */
const wallClock = (moment: Date) => moment.getTime() - behind(moment)

/** The moment at which the clock shows that; where it is set forward, it may never do so. */
function atWallClock(shown: number): Date | null {
  const utc = new Date(shown)
  if (inUtc.value) return utc
  const moment = new Date(utc.getUTCFullYear(), utc.getUTCMonth(), utc.getUTCDate(), utc.getUTCHours())
  return wallClock(moment) === shown ? moment : null
}

/**
 * Round moments for the labels of a time axis: at most `most`, in the zone shown. Days and hours are those of its
 * clock, also where it is set forward or back on the way.
 */
export function ticks(from: Date, to: Date, most: number): Date[] {
  const span = (to.getTime() - from.getTime()) / 1000
  const step = STEPS.find((seconds) => span / seconds <= most) ?? 604_800
  const moments: Date[] = []
  if (step < HOUR) {
    // Clocks are set by whole half hours, which these steps divide.
    const shift = behind(from)
    const first = Math.ceil((from.getTime() - shift) / (step * 1000)) * step * 1000 + shift
    for (let at = first; at <= to.getTime(); at += step * 1000) moments.push(new Date(at))
    return moments
  }
  const first = Math.ceil(wallClock(from) / (step * 1000)) * step * 1000
  for (let shown = first; shown <= wallClock(to); shown += step * 1000) {
    const moment = atWallClock(shown)
    if (moment && moment >= from && moment <= to) moments.push(moment)
  }
  return moments
}
