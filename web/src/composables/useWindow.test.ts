import { describe, expect, it } from 'vitest'
import { lengthSeconds, parseThen, parseWindow } from './useWindow'

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

describe('the window compared with', () => {
  const window = parseWindow({ last: '1h' }, now)
  const told = (then?: string) => {
    const found = parseThen({ then }, window)
    return found && [found.from.toISOString(), +found.to - +found.from, found.earlier]
  }
  it('is as long, and so much earlier or since a moment', () => {
    expect(told('7d')).toEqual(['2026-02-22T11:00:00.000Z', 3_600_000, '7d'])
    expect(told('2026-02-28T03:00:00Z')).toEqual(['2026-02-28T03:00:00.000Z', 3_600_000, null])
  })
  it('is none where the address names none', () => {
    expect([told(), told(''), told('soon'), told('0d')]).toEqual([null, null, null, null])
  })
})
