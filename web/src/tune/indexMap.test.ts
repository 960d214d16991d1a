import { describe, expect, it } from 'vitest'
import { drawn, HEAD } from './indexMap'

const column = (name: string) => ({ name, uses: [] })

describe('the index map', () => {
  const map = {
    columns: ['crossing_id', 'state', 'seat'].map(column),
    steps: [
      { column: 0, after: null, place: 0 },
      { column: 1, after: 0, place: 1 },
      { column: 0, after: 1, place: 2 },
    ],
    paths: [
      { index: 'again', end: 1, carried: [] },
      { index: 'by_state', end: 1, carried: [2] },
      { index: 'longer', end: 2, carried: [] },
    ],
  }
  const { columns, ways, width, height } = drawn(map)

  it('leads each way over the columns of its keys, always downwards', () => {
    const longer = ways[2]!
    expect(longer.keys).toHaveLength(3)
    longer.keys.forEach((key, place) => {
      expect(Math.abs(key.x - columns[[0, 1, 0][place]!]!)).toBeLessThan(10)
      expect(key.y).toBeGreaterThan(place ? longer.keys[place - 1]!.y : HEAD)
    })
    expect(longer.keys.map((key) => key.ink)).toEqual([1, 0.8, 0.6])
  })

  it('leads what begins alike side by side, and never on each other', () => {
    for (const place of [0, 1]) {
      const xs = ways.map((way) => way.keys[place]!.x)
      expect(new Set(xs).size).toBe(3)
      expect(Math.max(...xs) - Math.min(...xs)).toBeLessThan(12)
    }
  })

  it('gives each index a line of its own for its name, and carried columns an end there', () => {
    const [again, byState] = ways
    expect(byState!.name.y - again!.name.y).toBeGreaterThan(12)
    expect(byState!.carried).toEqual([{ x: columns[2], y: byState!.name.y }])
    expect(again!.carried).toEqual([])
    for (const way of ways) {
      expect(way.name.x).toBeGreaterThan(columns.at(-1)!)
      expect(way.name.x).toBeLessThan(width)
      expect(way.name.y).toBeLessThan(height)
    }
  })

  it('is empty where there is nothing', () => {
    expect(drawn({ columns: [], steps: [], paths: [] }).ways).toEqual([])
  })
})
