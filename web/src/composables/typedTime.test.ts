import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { typedMoment, typedTime } from './typedTime'

/** Clocks of this zone are put forward on 2026-03-29 at 01:00 UTC. */
const usual = process.env.TZ
beforeAll(() => void (process.env.TZ = 'Europe/Lisbon'))
afterAll(() => void (process.env.TZ = usual))

const now = new Date('2026-03-30T12:00:00Z')
const told = (text: string, isUtc = false) => {
  const typed = typedTime(text, now, isUtc)
  if (typeof typed === 'string') return typed
  if ('then' in typed) return `then ${typed.then instanceof Date ? typed.then.toISOString() : typed.then}`
  return 'last' in typed ? typed.last : `${typed.from.toISOString()} ${typed.to.toISOString()}`
}

describe('a typed time', () => {
  it('follows the clock when it is a length', () => {
    expect([told('last 2h'), told('90m'), told('3 d')]).toEqual(['2h', '90m', '3d'])
  })

  it('is a stretch of today or yesterday, in the zone shown', () => {
    expect(told('09:00–10:30')).toBe('2026-03-30T08:00:00.000Z 2026-03-30T09:30:00.000Z')
    expect(told('09:00–10:30', true)).toBe('2026-03-30T09:00:00.000Z 2026-03-30T10:30:00.000Z')
    expect(told('yesterday 14:00 - 15:00')).toBe('2026-03-29T13:00:00.000Z 2026-03-29T14:00:00.000Z')
    expect(told('yesterday 22:00–02:00')).toBe('2026-03-29T21:00:00.000Z 2026-03-30T01:00:00.000Z')
  })

  it('is a whole day, of 23 hours where the clocks are put forward', () => {
    expect(told('yesterday')).toBe('2026-03-29T00:00:00.000Z 2026-03-29T23:00:00.000Z')
    expect(told('2026-03-28')).toBe('2026-03-28T00:00:00.000Z 2026-03-29T00:00:00.000Z')
    expect(told('2026-03-29', true)).toBe('2026-03-29T00:00:00.000Z 2026-03-30T00:00:00.000Z')
  })

  it('is between two moments, or since one', () => {
    expect(told('2026-03-27 06:00 – 2026-03-28 06:00')).toBe(
      '2026-03-27T06:00:00.000Z 2026-03-28T06:00:00.000Z',
    )
    expect(told('2026-03-30T06:00:00Z to 2026-03-30T07:00:00Z')).toBe(
      '2026-03-30T06:00:00.000Z 2026-03-30T07:00:00.000Z',
    )
    expect(told('2h ago to 1h ago')).toBe('2026-03-30T10:00:00.000Z 2026-03-30T11:00:00.000Z')
    expect(told('2h ago')).toBe('2026-03-30T10:00:00.000Z 2026-03-30T12:00:00.000Z')
  })

  it('ends now where it would end later', () => {
    expect(told('today')).toBe('2026-03-29T23:00:00.000Z 2026-03-30T12:00:00.000Z')
  })

  it('tells problem with it, and what to give', () => {
    expect(told('')).toContain('Nothing was typed. Give a length')
    expect(told('soon')).toContain('“soon” is no time. Give')
    expect(told('25:00–26:00')).toContain('“25:00” is no time')
    expect(told('2026-02-30')).toContain('“2026-02-30” is no time')
    expect(told('0h')).toContain('has no length')
    expect(told('2026-04-01')).toContain('begins in the future')
    expect(told('2026-03-28 10:00 – 2026-03-27 10:00')).toContain('ends before it begins')
    expect(told('1:00–2:00–3:00')).toContain('more than two times')
  })

  it('takes what the window is compared with', () => {
    expect([told('then 7d'), told('Then 1 d earlier'), told('then none')]).toEqual([
      'then 7d',
      'then 1d',
      'then null',
    ])
    expect(told('then yesterday 14:00')).toBe('then 2026-03-29T13:00:00.000Z')
    for (const wrong of ['then', 'then soon', 'then 2026-04-01', 'then 0d']) {
      expect(told(wrong)).toContain('is no earlier time')
    }
  })
})

describe('one moment', () => {
  const now = new Date('2026-03-30T12:00:00Z')
  it('is a time of today or another day, or so long ago', () => {
    expect(typedMoment('03:12:40', now, true)).toEqual(new Date('2026-03-30T03:12:40Z'))
    expect(typedMoment('yesterday 03:12', now, true)).toEqual(new Date('2026-03-29T03:12:00Z'))
    expect(typedMoment(' 20m ago ', now, true)).toEqual(new Date('2026-03-30T11:40:00Z'))
  })
  it('lies in the past, and says what to give', () => {
    expect(typedMoment('13:00', now, true)).toContain('is no moment of the past')
    expect(typedMoment('soon', now, true)).toContain('Give a time')
  })
})
