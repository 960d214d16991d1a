import { describe, expect, it } from 'vitest'
import { likeness, ranked } from './ranking'

describe('ranking names', () => {
  it('prefers the beginning of a name, then of a word, then the middle, then what is nearly meant', () => {
    const names = ['overload', 'first load', 'laod', 'Load', 'sessions']
    expect(ranked('load', names, (name) => name)).toEqual(['Load', 'first load', 'overload', 'laod'])
  })

  it('passes over typing errors in longer words, and not in short ones', () => {
    expect(likeness('statemnets', 'Statements')).toBe(1)
    expect(likeness('mantenance', 'Maintenance windows')).toBe(1)
    expect(likeness('sesions', 'Sessions')).toBe(1)
    expect(likeness('lod', 'Load')).toBe(0)
    expect(likeness('gate', 'passage-a')).toBe(0)
  })

  it('keeps everything in order while nothing is typed', () => {
    expect(ranked(' ', ['b', 'a'], (name) => name)).toEqual(['b', 'a'])
  })
})
