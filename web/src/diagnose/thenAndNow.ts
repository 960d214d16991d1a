import type { Schemas } from '../api/client'
import { clock } from '../format'

type Why = Schemas['WhyFigures']

/** A difference with its sign; what is too small to be told has none. */
export function signed(value: number, write: (value: number) => string): string {
  const text = write(Math.abs(value))
  const sign = value > 0 ? '+' : '−'
  return value === 0 || text.startsWith('<') ? text : `${sign}${text}`
}

/** One reason why a statement moved. */
export const inWords = (why: Why): string =>
  why.at ? `${why.text} since ${clock(why.at, new Date())}` : why.text
