import { describe, expect, it } from 'vitest'
import { lengthSeconds, parseWindow } from './useWindow'

const now = new Date('2026-03-01T12:00:00Z')

describe('the window in the address', () => {
  it('is read from its ends', () => {
    const window = parseWindow({ from: '2026-03-01T10:00:00Z', to: '2026-03-01T11:00:00Z' }, now)
    expect(window.last).toBeNull()
    expect(+window.to - +window.from).toBe(3_600_000)
  })
  it('follows the clock when a length is given, and when nothing useful is', () => {
    expect(parseWindow({ last: '6h' }, now).from.toISOString()).toBe('2026-03-01T06:00:00.000Z')
    for (const query of [{}, { last: 'soon' }, { from: 'x', to: 'y' }, { last: '0m' }]) {
      expect(parseWindow(query, now)).toEqual({
        from: new Date('2026-03-01T11:45:00Z'),
        to: now,
        last: '15m',
      })
    }
  })
  it('knows minutes, hours and days', () => {
    expect([lengthSeconds('5m'), lengthSeconds('2h'), lengthSeconds('7d'), lengthSeconds('7w')]).toEqual([
      300,
      7200,
      604_800,
      null,
    ])
  })
})
