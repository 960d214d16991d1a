import type { Schemas } from '../api/client'

type HoldUp = Schemas['HoldUp']
type LockWait = Schemas['LockWait']

/** A wait in its place: below the holder in whose lane it stands. */
export interface PlacedWait {
  wait: LockWait
  /** How far it is set in: as many holders deep as it waits. */
  depth: number
  /** Whether others stand in its own lane. */
  holds: boolean
}

/** The waits of a hold-up, lane by lane: each waiter in order, and below one that holds something those that wait for it. */
export function lanes(holdUp: HoldUp): PlacedWait[] {
  const lane = new Map<number, LockWait[]>()
  for (const wait of holdUp.waits) lane.set(wait.lane, [...(lane.get(wait.lane) ?? []), wait])
  const placed: PlacedWait[] = []
  const seen = new Set<LockWait>()
  function place(process: number, depth: number): void {
    for (const wait of lane.get(process) ?? []) {
      if (seen.has(wait)) continue
      seen.add(wait)
      placed.push({ wait, depth, holds: lane.has(wait.session.process) })
      place(wait.session.process, depth + 1)
    }
  }
  place(holdUp.holder.process, 1)
  // Whoever stood elsewhere when last seen is told all the same.
  for (const wait of holdUp.waits)
    if (!seen.has(wait)) placed.push({ wait, depth: wait.depth, holds: lane.has(wait.session.process) })
  return placed
}

/** Where a span lies between two moments, in per cent; what was seen once is still to be seen. */
export function placed(
  from: string,
  to: string,
  span: { from: number; to: number },
): { left: number; width: number } {
  const whole = Math.max(span.to - span.from, 1)
  const left = ((Date.parse(from) - span.from) / whole) * 100
  return { left, width: Math.max(((Date.parse(to) - Date.parse(from)) / whole) * 100, 0.6) }
}

/** Who it is, in one line. */
export const whose = ({ account, program, client }: Schemas['LockSession']) =>
  [account, program, client].filter(Boolean).join(', ') || 'not a client session'
