import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { groupRows, parseChosen, toggle, writeChosen } from './loadGroups'

const parts = {
  count: 7,
  share_of_others: 0.1,
  parts: [
    { part: '12', name: 'skerry_gate', load: { total: 1.5 }, share: 0.6, cells: [2, null, 1] },
    { part: null, name: '', load: { total: 0.75 }, share: 0.3, cells: [0, null, 1] },
  ],
} as unknown as Schemas['LoadParts']

describe('groups of the load', () => {
  it('have a head, their heaviest parts, and what is left, so that shares add up', () => {
    const rows = groupRows('account', parts, [], undefined)
    expect(rows.map((row) => [row.label, row.figures.join(' ')])).toEqual([
      ['Accounts', 'mean share'],
      ['skerry_gate', '1.50 60\u00a0%'],
      ['(the server itself)', '0.750 30\u00a0%'],
      ['5 more', ' 10\u00a0%'],
    ])
    expect(rows[1]!.full).toBe(2)
  })

  it('are one line while they are closed', () => {
    expect(groupRows('client', null, [], undefined).map((row) => row.isOn)).toEqual([false])
  })

  it('ink the part that is chosen by wait kind', () => {
    const kinds = [[1, 1], null, [0, 1]]
    const rows = groupRows('account', parts, [{ by: 'account', part: '' }], kinds)
    expect(rows.map((row) => row.kinds)).toEqual([undefined, undefined, kinds, undefined])
  })
})

describe('what is chosen', () => {
  it('goes into the address and comes back, whatever else stands there', () => {
    const chosen = [
      { by: 'account' as const, part: '12' },
      { by: 'event' as const, part: '' },
    ]
    expect(parseChosen(writeChosen(chosen))).toEqual(chosen)
    expect(parseChosen('tide:4,account:x,,event:9')).toEqual([{ by: 'event', part: '9' }])
    expect(writeChosen([])).toBeUndefined()
  })

  it('is one part of each group, and ends when it is chosen again', () => {
    const one = { by: 'account' as const, part: '12' }
    expect(toggle([one], { by: 'account', part: '13' })).toEqual([{ by: 'account', part: '13' }])
    expect(toggle([one], { by: 'event', part: '1' })).toHaveLength(2)
    expect(toggle([one], one)).toEqual([])
    const other = { by: 'account', part: '13' } as const
    expect(toggle([one], other, true)).toEqual([one, other])
    expect(toggle([one, other], one, true)).toEqual([other])
  })
})
