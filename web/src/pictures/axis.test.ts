import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { ticks } from './axis'

describe('ticks of a time axis', () => {
  const zone = process.env.TZ
  beforeAll(() => {
    process.env.TZ = 'Europe/Berlin'
  })
  afterAll(() => {
    process.env.TZ = zone
  })
  it('are few, round and inside', () => {
    const from = new Date(2026, 2, 1, 9, 58, 12)
    const to = new Date(2026, 2, 1, 10, 13, 12)
    const moments = ticks(from, to, 6)
    expect(moments.map((moment) => moment.getMinutes())).toEqual([0, 5, 10])
    expect(moments.every((moment) => moment >= from && moment <= to && moment.getSeconds() === 0)).toBe(true)
  })
  it('keep to the clock where it is set forward or back on the way', () => {
    for (const [from, to, days] of [
      [new Date(2026, 2, 27, 7), new Date(2026, 3, 1, 7), 5],
      [new Date(2026, 9, 23, 7), new Date(2026, 9, 28, 7), 5],
    ] as const) {
      const moments = ticks(from, to, 6)
      expect(moments.map((moment) => moment.getHours())).toEqual(Array(days).fill(0))
    }
    const night = ticks(new Date(2026, 2, 28, 20), new Date(2026, 2, 29, 8), 7)
    expect(night.map((moment) => moment.getHours())).toEqual([20, 22, 0, 4, 6, 8])
  })
  it('begin with the day where they are days', () => {
    const moments = ticks(new Date(2026, 2, 1, 7), new Date(2026, 2, 5, 7), 6)
    expect(moments.map((moment) => moment.getHours())).toEqual([0, 0, 0, 0])
  })
})
