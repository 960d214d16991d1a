import type { Schemas } from '../api/client'

type Step = Schemas['PlanStep']

/** What leads from a step to the one above it, in the signs that draw trees in text. */
export function guides(steps: readonly { depth: number }[]): string[] {
  const found: string[] = Array.from({ length: steps.length }, () => '')
  // Whether another step of this depth follows, before one of a lesser depth.
  const follows: boolean[] = []
  for (let at = steps.length - 1; at >= 0; at -= 1) {
    const { depth } = steps[at]!
    for (let level = 1; level <= depth; level += 1)
      found[at] += level < depth ? (follows[level] ? '│  ' : '   ') : follows[level] ? '├─ ' : '└─ '
    follows.length = depth + 1
    follows[depth] = true
  }
  return found
}

/** The steps that take the most for themselves: they are set off. */
export function heaviest(shares: readonly (number | null | undefined)[]): Set<number> {
  const most = Math.max(0, ...shares.map((share) => share ?? 0))
  return new Set(shares.flatMap((share, at) => (most > 0 && (share ?? 0) >= most / 2 ? [at] : [])))
}

/** Share of a step: of the time, where the plan was run and timed; else of the planner's cost. */
export const shareOf = (step: Step, isTimed: boolean): number | null | undefined =>
  isTimed ? step.time_share : step.cost_share
export const isTimed = (steps: readonly Step[]): boolean => steps.some((step) => step.time_share != null)

/** Why rows came in other numbers than the planner expected, and what may help. */
export const WHY_WRONG: Record<Schemas['WhyWrong'], string> = {
  correlated_columns:
    'Several conditions on one table: the planner multiplies their shares, as if they had nothing to do with one another. Extended statistics (CREATE STATISTICS) tell it.',
  expression:
    'A condition on what a function or an expression makes of a column, of which there are no statistics. An index on the expression, or extended statistics on it, give it some.',
  function:
    'Rows of a function: the planner takes the number that the function was created with (ROWS), whatever it returns.',
  groups:
    'Groups of several columns: the planner multiplies the numbers of their values. Extended statistics of the kind ndistinct tell it.',
  join: 'Rows that a join leaves over, though what it joins came as expected: values of the one side meet values of the other more or less often than an even spread would.',
  statistics_or_skew:
    'One condition on a column: its statistics are old (ANALYZE), or too coarse for values that are this unequal (ALTER TABLE … SET STATISTICS).',
}

/** A line of two plans in one tree: a step of one or both, or all steps of a part that is the same. */
export interface MergedLine {
  depth: number
  first: Step | null
  second: Step | null
  likeness: Schemas['Likeness']
  /** Steps below it that are the same and folded away. */
  folded: number
  /** Its place, by which it is unfolded. */
  at: number
}

/** Two plans as lines; a part that is the same is one line unless it is unfolded. */
export function mergedLines(
  read: { first: Schemas['PlanTree']; second?: Schemas['PlanTree'] | null; merged: Schemas['MergedStep'][] },
  unfolded: ReadonlySet<number>,
): MergedLine[] {
  const lines: MergedLine[] = []
  let at = 0
  while (at < read.merged.length) {
    const step = read.merged[at]!
    let end = at + 1
    if (step.likeness === 'same')
      while (read.merged[end]?.likeness === 'same' && read.merged[end]!.depth > step.depth) end += 1
    const isFolded = end > at + 1 && !unfolded.has(at)
    for (let of = at; of < (isFolded ? at + 1 : end); of += 1) {
      const { depth, first, second, likeness } = read.merged[of]!
      lines.push({
        depth,
        likeness,
        first: first == null ? null : read.first.steps[first]!,
        second: second == null ? null : (read.second?.steps[second] ?? null),
        folded: isFolded ? end - at - 1 : 0,
        at: of,
      })
    }
    at = end
  }
  return lines
}
