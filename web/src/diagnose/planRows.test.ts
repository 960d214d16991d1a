import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { planStep } from '../testing/plan'
import { guides, heaviest, mergedLines } from './planRows'

const tree = (...steps: Schemas['PlanStep'][]): Schemas['PlanTree'] => ({
  steps,
  wrong: [],
  planning_ms: null,
  execution_ms: null,
})

describe('the tree of a plan', () => {
  it('is drawn so that each step hangs on the one above it', () => {
    const depths = [0, 1, 2, 1, 2, 3, 2].map((depth) => ({ depth }))
    expect(guides(depths)).toEqual(['', '├─ ', '│  └─ ', '└─ ', '   ├─ ', '   │  └─ ', '   └─ '])
  })

  it('sets off what takes at least half of the most', () => {
    expect([...heaviest([0.1, 0.6, 0.31, 0.29, null])]).toEqual([1, 2])
    expect([...heaviest([0, null])]).toEqual([])
  })
})

describe('two plans as one tree', () => {
  const read = {
    first: tree(
      planStep(0, 'Hash Join'),
      planStep(1, 'Sort'),
      planStep(2, 'Seq Scan on vessel'),
      planStep(1, 'Seq Scan on deck'),
    ),
    second: tree(
      planStep(0, 'Hash Join'),
      planStep(1, 'Sort'),
      planStep(2, 'Seq Scan on vessel'),
      planStep(1, 'Index Scan on deck'),
    ),
    merged: [
      { depth: 0, first: 0, second: 0, likeness: 'same_step' as const },
      { depth: 1, first: 1, second: 1, likeness: 'same' as const },
      { depth: 2, first: 2, second: 2, likeness: 'same' as const },
      { depth: 1, first: 3, second: 3, likeness: 'in_place' as const },
    ],
  }

  it('folds what is the same, and shows it on request', () => {
    const folded = mergedLines(read, new Set())
    expect(folded.map((line) => [line.first?.name, line.folded])).toEqual([
      ['Hash Join', 0],
      ['Sort', 1],
      ['Seq Scan on deck', 0],
    ])
    expect(folded[2]!.second?.name).toBe('Index Scan on deck')
    const all = mergedLines(read, new Set([1]))
    expect(all.map((line) => line.first?.name)).toEqual([
      'Hash Join',
      'Sort',
      'Seq Scan on vessel',
      'Seq Scan on deck',
    ])
  })
})
