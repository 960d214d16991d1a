import { describe, expect, it } from 'vitest'
import {
  ago,
  between,
  bytes,
  clock,
  count,
  milliseconds,
  number,
  percent,
  seconds,
  secondsBetween,
  timesAs,
} from './format'

describe('figures', () => {
  it('have about three digits and grouped thousands', () => {
    expect(number(1234567)).toBe('1\u202f234\u202f567')
    expect(number(12.345)).toBe('12.3')
    expect(number(0.01234)).toBe('0.012')
    expect(number(0.0001)).toBe('<0.001')
    expect(number(0)).toBe('0')
    expect(count(1499.6)).toBe('1\u202f500')
  })

  it('of two lengths of time share a unit', () => {
    expect(secondsBetween(6420, 7812)).toBe('1.78 to 2.17\u00a0h')
    expect(secondsBetween(90, 150)).toBe('1.50 to 2.50\u00a0min')
    expect(secondsBetween(3, 4)).toBe('3 to 4\u00a0s')
  })

  it('are a dash when they are not known', () => {
    for (const write of [number, count, milliseconds, seconds, bytes, percent]) {
      expect(write(null)).toBe('–')
      expect(write(Number.NaN)).toBe('–')
    }
  })

  it('choose their unit', () => {
    expect(milliseconds(0.25)).toBe('250\u00a0µs')
    expect(milliseconds(3)).toBe('3\u00a0ms')
    expect(milliseconds(2500)).toBe('2.50\u00a0s')
    expect(seconds(600)).toBe('10\u00a0min')
    expect(seconds(86_400)).toBe('24\u00a0h')
    expect(bytes(1536)).toBe('1.50\u00a0kB')
    expect(percent(0.125)).toBe('12.5\u00a0%')
    expect(timesAs(80)).toBe('80 times as long')
    expect(timesAs(0.5)).toBe('2 times as fast')
  })
})

describe('times', () => {
  const now = new Date(2026, 2, 1, 12, 0, 0)
  it('name the day only when it is another one', () => {
    expect(clock(new Date(2026, 2, 1, 9, 5, 7), now)).toBe('09:05:07')
    expect(clock(new Date(2026, 1, 28, 9, 5, 7), now, false)).toBe('2026-02-28 09:05')
    const at = (day: number, hour: number) => new Date(2026, 1, day, hour)
    expect(between({ from: at(3, 9), to: at(3, 10) })).toBe('2026-02-03 09:00:00 – 10:00:00')
    expect(between({ from: at(3, 9), to: at(4, 9) })).toBe('2026-02-03 09:00:00 – 2026-02-04 09:00:00')
  })
  it('tell how long ago something was', () => {
    expect(ago(new Date(2026, 2, 1, 11, 59, 30), now)).toBe('30\u00a0s ago')
    expect(ago(now, now)).toBe('just now')
  })
})
