import { describe, expect, it } from 'vitest'
import type { Schemas } from '../api/client'
import { familyRows } from './familyRows'
import { loadRows } from './loadRows'

/** Load with so many sessions running and so many waiting for a lock. */
function load(running: number | null, lock = 0): Schemas['LoadFigures'] {
  const kinds = Array<number>(10).fill(0)
  kinds[0] = running ?? 0
  kinds[5] = lock
  return running === null
    ? { samples: 0, kinds: [], total: null, standard_error: null }
    : { samples: 10, kinds, total: running + lock, standard_error: 0.1 }
}

describe('rows of load', () => {
  const cells = [load(1), load(null), load(2, 6)].map((load) => ({ load }))

  it('begin with the total, and keep gaps as gaps', () => {
    const [total] = loadRows(cells, load(1.5, 3), false)
    expect(total).toMatchObject({ key: 'total', values: [1, null, 8], figures: ['4.50', '8'], full: 8 })
  })

  it('leave out kinds without load, unless they are asked for', () => {
    expect(loadRows(cells, load(1.5, 3), false).map((row) => row.key)).toEqual(['total', 'running', 'lock'])
    expect(loadRows(cells, load(1.5, 3), true)).toHaveLength(11)
  })

  it('have one scale for all kinds, so that their sizes compare', () => {
    const [, running, lock] = loadRows(cells, load(1.5, 3), false)
    expect([running?.full, lock?.full]).toEqual([6, 6])
    expect(lock?.values).toEqual([0, null, 6])
  })

  it('have a scale where there is no load at all', () => {
    const rows = loadRows([{ load: load(0) }], load(0), true)
    expect(rows.every((row) => row.full > 0)).toBe(true)
  })
})

describe("rows of a family's figures", () => {
  const figures = (calls: number): Schemas['StatementFigures'] =>
    ({
      calls,
      exec_us: calls * 2e3,
      rows: calls * 4,
      hit_pages: calls * 7,
      read_pages: calls,
      plan_us: 0,
    }) as never
  const cell = (seconds: number, calls: number) => ({ seconds, figures: figures(calls) })
  const family = (cells: ReturnType<typeof cell>[]) =>
    ({
      cells,
      figures: figures(cells.reduce((sum, { figures }) => sum + figures.calls, 0)),
    }) as never as Parameters<typeof familyRows>[0]

  it('are rates over the seconds observed and ratios over the calls', () => {
    const rows = familyRows(family([cell(10, 50), cell(20, 10)]))
    const values = Object.fromEntries(rows.map((row) => [row.key, row.values]))
    expect(values).toEqual({
      time: [0.01, 0.001],
      mean: [2, 2],
      calls: [5, 0.5],
      pages: [8, 8],
      reads: [1, 1],
      rows: [4, 4],
    })
    expect(rows.find((row) => row.key === 'calls')?.figures).toEqual(['2 /s', '5 /s'])
  })

  it('tell not observed and not called apart', () => {
    const rows = familyRows(family([cell(0, 0), cell(10, 0), cell(10, 10)]))
    expect(rows.find((row) => row.key === 'mean')?.values).toEqual([null, 0, 2])
    expect(rows.find((row) => row.key === 'calls')?.values).toEqual([null, 0, 1])
  })

  it('say nothing of means without calls', () => {
    const rows = familyRows(family([cell(10, 0)]))
    expect(rows.find((row) => row.key === 'mean')?.figures[0]).toBe('–')
    expect(rows.every((row) => row.full > 0)).toBe(true)
  })
})
