/** What is usual in a cell that is drawn from `x` on, `width` wide. */
export interface UsualCell {
  x: number
  width: number
  low: number
  high: number
}

/** What is usual, as one path; `up` tells the height at which a value is drawn. Cells alike side by side are one step. */
export function usualPath(cells: readonly UsualCell[], up: (value: number) => number): string {
  return steps(cells)
    .map(({ x, width, low, high }) => {
      const wide = width.toFixed(2)
      return `M${x.toFixed(1)} ${up(low).toFixed(1)}h${wide}V${up(high).toFixed(1)}h-${wide}z`
    })
    .join('')
}

/** Cells that are drawn no further apart touch. */
const TOUCHING = 0.01

/** Cells of which those alike side by side are one: a range holds for an hour, which is many cells of a short window. */
function steps(cells: readonly UsualCell[]): UsualCell[] {
  const merged: UsualCell[] = []
  for (const cell of cells) {
    const last = merged.at(-1)
    const isNext = last && last.x + last.width > cell.x - TOUCHING
    if (isNext && last.low === cell.low && last.high === cell.high) last.width = cell.x + cell.width - last.x
    else merged.push({ ...cell })
  }
  return merged
}

/** By how much what is usual may lie above what was seen before it is cut, so that what was seen can still be read. */
const ROOM = 1.6

/** What is at the top of a strip: the most that was seen or, where there is room, what is usual at most. */
export function fullOf(seen: readonly (number | null)[], high: readonly number[]): number {
  const most = Math.max(0, ...seen.map((cell) => cell ?? 0))
  return Math.max(most, Math.min(ROOM * most, Math.max(0, ...high)), 0.001)
}

/** The height at which a value is drawn in a strip, where `full` is at its top: what lies beyond is cut. */
export const within = (height: number, full: number) => (value: number) =>
  height - Math.min(1, Math.max(0, value / (full || 1))) * height
