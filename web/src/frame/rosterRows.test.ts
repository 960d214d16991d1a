import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import type { Instance } from '../stores/roster'
import { instance } from '../testing/page'
import { rosterRows } from './rosterRows'

const of = (instance_id: number, label: string, group: string | null, health = 'quiet') =>
  instance({ instance_id, label, group, health }) as unknown as Instance
const all = [
  of(1, 'quay-10', 'shore', 'act'),
  of(2, 'passage-a', 'sea', 'look'),
  of(3, 'quay-9', 'shore'),
  of(4, 'ledger', null),
]
const preferences = (change: Partial<Schemas['Preferences']> = {}): Schemas['Preferences'] => ({
  pinned: [],
  folded_groups: [],
  boards: [],
  order: 'urgency',
  ...change,
})
const told = (
  change: Partial<Schemas['Preferences']> = {},
  filter = '',
  health: Schemas['Health'] | '' = '',
) =>
  rosterRows(all, { filter, health, preferences: preferences(change) }).map((row) =>
    row.kind === 'group' ? `${row.name} ${row.count}${row.isFolded ? ' folded' : ''}` : row.instance.label,
  )

describe('rows of the roster', () => {
  it('stand group by group, those without one last', () => {
    expect(told()).toEqual(['sea 1', 'passage-a', 'shore 2', 'quay-10', 'quay-9', 'No group 1', 'ledger'])
    expect(told({ order: 'label' })).toContain('quay-9')
    expect(told({ order: 'label' }).indexOf('quay-9')).toBeLessThan(
      told({ order: 'label' }).indexOf('quay-10'),
    )
  })

  it('begin with what is pinned, in its own order', () => {
    expect(told({ pinned: [4, 1] }).slice(0, 3)).toEqual(['Pinned 2', 'ledger', 'quay-10'])
  })

  it('leave out what is folded, unless a text is looked for', () => {
    expect(told({ folded_groups: ['shore'] })).toEqual([
      'sea 1',
      'passage-a',
      'shore 2 folded',
      'No group 1',
      'ledger',
    ])
    expect(told({ folded_groups: ['shore'] }, 'quay')).toEqual(['shore 2', 'quay-10', 'quay-9'])
  })

  it('are filtered by health, and need no head for one group of all', () => {
    expect(told({}, '', 'act')).toEqual(['shore 1', 'quay-10'])
    expect(rosterRows([all[3]!], { filter: '', health: '', preferences: preferences() })).toHaveLength(1)
  })
})
