import { describe, expect, it } from 'vitest'
import { ticks } from './axis'

describe('ticks of a time axis', () => {
  it('are few, round and inside', () => {
    const from = new Date(2026, 2, 1, 9, 58, 12)
    const to = new Date(2026, 2, 1, 10, 13, 12)
    const moments = ticks(from, to, 6)
    expect(moments.map((moment) => moment.getMinutes())).toEqual([0, 5, 10])
    expect(moments.every((moment) => moment >= from && moment <= to && moment.getSeconds() === 0)).toBe(true)
  })
  it('begin with the day where they are days', () => {
    const moments = ticks(new Date(2026, 2, 1, 7), new Date(2026, 2, 5, 7), 6)
    expect(moments.map((moment) => moment.getHours())).toEqual([0, 0, 0, 0])
  })
})
