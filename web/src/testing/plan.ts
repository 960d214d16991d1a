import type { Schemas } from '../api/client'

/** A step of a plan that was not run, with what a test wants to be different. */
export function planStep(
  depth: number,
  name: string,
  change: Partial<Schemas['PlanStep']> = {},
): Schemas['PlanStep'] {
  return {
    depth,
    name,
    role: null,
    cost: 10,
    cost_share: 0.5,
    expected_rows: 2,
    rows: null,
    loops: null,
    ms: null,
    time_share: null,
    hit_pages: null,
    read_pages: null,
    temp_written_pages: null,
    details: [],
    ...change,
  }
}
