import type { Schemas } from '../api/client'
import { clock, number } from '../format'

type Why = Schemas['WhyFigures']
type Likeness = Schemas['LikenessFigures']

/** A difference with its sign; what is too small to be told has none. */
export function signed(value: number, write: (value: number) => string): string {
  const text = write(Math.abs(value))
  const sign = value > 0 ? '+' : '−'
  return value === 0 || text.startsWith('<') ? text : `${sign}${text}`
}

/** One reason why a statement moved. */
export const inWords = (why: Why): string =>
  why.at ? `${why.text} since ${clock(why.at, new Date())}` : why.text

/** What must be known before two periods are held against each other. */
export function cautions(likeness: Likeness): string[] {
  return [
    ...(likeness.overlaps ? ['The periods overlap: what both cover differs in nothing.'] : []),
    ...(likeness.has_like_hours
      ? likeness.has_like_days
        ? []
        : ['The days of the week differ: a weekend against a working day differs by itself.']
      : ['The hours of the day differ: load that comes and goes with the day differs by itself.']),
    ...(likeness.has_other_length
      ? [
          `Now is ${number(likeness.length_ratio)} times as long as then: everything is told for each second that was observed.`,
        ]
      : []),
  ]
}
