import { describe, expect, it } from 'vitest'
import { fullOf, usualPath, within } from './usual'

const cell = (x: number, low: number, high: number) => ({ x, width: 1, low, high })
const up = within(10, 10)

describe('what is usual behind a strip', () => {
  it('is one step as long as it stays the same', () => {
    const hours = [cell(0, 2, 4), cell(1, 2, 4), cell(2, 2, 4), cell(3, 3, 4)]
    expect(usualPath(hours, up)).toBe('M0.0 8.0h3.00V6.0h-3.00zM3.0 7.0h1.00V6.0h-1.00z')
  })

  it('is not drawn where nothing is known', () => {
    expect(usualPath([cell(0, 2, 4), cell(2, 2, 4)], up)).toBe(
      'M0.0 8.0h1.00V6.0h-1.00zM2.0 8.0h1.00V6.0h-1.00z',
    )
    expect(usualPath([], up)).toBe('')
  })

  it('leaves room for what was seen', () => {
    expect(fullOf([1, null, 2], [100])).toBeCloseTo(3.2)
    expect(fullOf([1, null, 2], [2.5])).toBe(2.5)
    expect(fullOf([], [])).toBeGreaterThan(0)
  })
})
