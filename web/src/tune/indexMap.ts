import type { Schemas } from '../api/client'

type Figures = Schemas['IndexMapFigures']
/** Height of a line of text. */
const LINE = 19
/** Least height of a step. */
const STEP = 26
/** Between two ways that go side by side. */
const STRAND = 3.5
/** Room above the columns for their names. */
export const HEAD = 118
/** Room for the names of indexes, at the right. */
const NAMES = 420
const [LEAST_COLUMN, MOST_COLUMN] = [40, 110]
/** Width of the whole, where columns are not too many. */
const WIDTH = 1000
/** Room before the first column, and between the last one and the names. */
const [LEFT, GAP] = [24, 30]
/** A key further behind is drawn no fainter. */
const FAINTEST = 0.4
const FADES = 0.2

/** A stretch of a way between two keys, or up to the first. */
export interface Stretch {
  d: string
  /** Fainter with each key. */
  ink: number
}

/** The way of an index as it is drawn. */
export interface Way {
  index: string
  stretches: Stretch[]
  /** Its keys, the last one where it ends. */
  keys: { x: number; y: number; ink: number }[]
  /** Columns that it carries: open ends. */
  carried: { x: number; y: number }[]
  /** From its end to its name. */
  leader: string
  /** Where its name stands. */
  name: { x: number; y: number }
}

export interface Drawn {
  width: number
  height: number
  /** Where columns stand. */
  columns: number[]
  ways: Way[]
}

/** Lays a map out: columns across, each step below the one before it, ways with the same beginning side by side. */
export function drawn(map: Figures): Drawn {
  const room = (WIDTH - NAMES - LEFT - GAP) / Math.max(map.columns.length, 1)
  const column = Math.min(MOST_COLUMN, Math.max(LEAST_COLUMN, room))
  const columns = map.columns.map((_, place) => LEFT + place * column)
  const names = LEFT + map.columns.length * column + GAP

  const chains = map.paths.map((path) => {
    const chain: number[] = []
    for (let at = path.end ?? null; at !== null; at = map.steps[at]!.after ?? null) chain.unshift(at)
    return chain
  })
  const through = map.steps.map((_, step) =>
    chains.flatMap((chain, way) => (chain.includes(step) ? [way] : [])),
  )
  // Each way beside the others on all of its length: as far from the middle as where most go together.
  const lane = chains.map((chain, way) => {
    const widest = chain.map((step) => through[step]!).sort((a, b) => b.length - a.length)[0] ?? [way]
    return (widest.indexOf(way) - (widest.length - 1) / 2) * STRAND
  })
  const ends = map.steps.map((_, step) => map.paths.flatMap((path, way) => (path.end === step ? [way] : [])))
  let height = HEAD + 14
  const tops = map.steps.map((_, step) => {
    const top = height
    height += Math.max(STEP, ends[step]!.length * LINE + 8)
    return top
  })

  const ways = map.paths.map((path, way): Way => {
    const off = lane[way]!
    const keys = chains[way]!.map((step) => {
      const { column, place } = map.steps[step]!
      return { x: columns[column]! + off, y: tops[step]! + off, ink: Math.max(FAINTEST, 1 - place * FADES) }
    })
    const stretches = keys.map((key, place): Stretch => {
      const before = keys[place - 1]
      const from = before ? `M${before.x} ${before.y}` : `M${key.x} ${HEAD + 2}`
      return { d: `${from}V${key.y}H${key.x}`, ink: key.ink }
    })
    const last = keys.at(-1) ?? { x: LEFT, y: height }
    const line = path.end == null ? 0 : ends[path.end]!.indexOf(way)
    const y = (path.end == null ? height : tops[path.end]!) + line * LINE
    if (path.end == null) height += STEP
    return {
      index: path.index,
      stretches,
      keys,
      carried: path.carried.map((place) => ({ x: columns[place]!, y })),
      leader: `M${last.x} ${last.y}V${y}H${names - 8}`,
      name: { x: names, y },
    }
  })
  return { width: names + NAMES, height: height + 4, columns, ways }
}
