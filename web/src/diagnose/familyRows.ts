import type { Schemas } from '../api/client'
import { bytes, milliseconds, number } from '../format'
import type { StripRow } from '../pictures/StripStack.vue'

type Family = Schemas['FamilyFigures']
type Figures = Family['figures']

/** One figure of a family over time. */
interface Measure {
  key: string
  label: string
  hint: string
  of: (figures: Figures) => number
  /** What it is told by: a second of the window, or a call. */
  per: 'second' | 'call'
  write: (value: number) => string
  /** Shown only where there is any of it. */
  ifAny?: boolean
}

const MEASURES: readonly Measure[] = [
  {
    key: 'time',
    label: 'time',
    hint: 'seconds of execution per second',
    of: (figures) => figures.exec_us / 1e6,
    per: 'second',
    write: (value) => `${number(value)} s/s`,
  },
  {
    key: 'mean',
    label: 'time per call',
    hint: 'mean of the calls that ended in the cell',
    of: (figures) => figures.exec_us / 1e3,
    per: 'call',
    write: milliseconds,
  },
  {
    key: 'planning',
    label: 'planning per call',
    hint: 'time planning, where the server keeps it',
    of: (figures) => figures.plan_us / 1e3,
    per: 'call',
    write: milliseconds,
    ifAny: true,
  },
  {
    key: 'calls',
    label: 'calls',
    hint: 'calls per second',
    of: (figures) => figures.calls,
    per: 'second',
    write: (value) => `${number(value)} /s`,
  },
  {
    key: 'rows',
    label: 'rows per call',
    hint: 'rows returned or changed',
    of: (figures) => figures.rows,
    per: 'call',
    write: number,
  },
  {
    key: 'pages',
    label: 'pages per call',
    hint: 'pages touched, in cache or out of it',
    of: (figures) => figures.hit_pages + figures.read_pages,
    per: 'call',
    write: number,
  },
  {
    key: 'reads',
    label: 'pages read per call',
    hint: 'pages read from outside the cache',
    of: (figures) => figures.read_pages,
    per: 'call',
    write: number,
    ifAny: true,
  },
  {
    key: 'writes',
    label: 'pages changed per call',
    hint: 'pages changed for the first time since they were written',
    of: (figures) => figures.dirtied_pages,
    per: 'call',
    write: number,
    ifAny: true,
  },
  {
    key: 'temp',
    label: 'temp pages per call',
    hint: 'pages of temp files, read and written',
    of: (figures) => figures.temp_read_pages + figures.temp_written_pages,
    per: 'call',
    write: number,
    ifAny: true,
  },
  {
    key: 'wal',
    label: 'WAL per call',
    hint: 'WAL made',
    of: (figures) => figures.log_bytes,
    per: 'call',
    write: bytes,
    ifAny: true,
  },
]

/** One figure of a family. Cells that were not observed are gaps; ratios need calls. */
function row(family: Family, measure: Measure): StripRow {
  const { of, write } = measure
  const bySecond = measure.per === 'second'
  // Where nothing was called a ratio does not exist, which is no gap in the watching.
  const values = family.cells.map((cell) => {
    if (cell.seconds <= 0) return null
    const by = bySecond ? cell.seconds : cell.figures.calls
    return by > 0 ? of(cell.figures) / by : 0
  })
  const seconds = family.cells.reduce((sum, cell) => sum + cell.seconds, 0)
  const by = bySecond ? seconds : family.figures.calls
  const peak = Math.max(...values.map((value) => value ?? 0), 0)
  return {
    key: measure.key,
    label: measure.label,
    hint: measure.hint,
    values,
    ink: 'url(#ink-plum)',
    figures: [by > 0 ? write(of(family.figures) / by) : number(null), write(peak)],
    full: peak || 1,
    tall: measure.key === 'time',
    write,
  }
}

/** Rows of one family's own figures. */
export function familyRows(family: Family): StripRow[] {
  return MEASURES.filter(({ ifAny, of }) => !ifAny || of(family.figures) > 0).map((measure) =>
    row(family, measure),
  )
}

/** The same of several families: measure by measure, each on one scale for all of them. */
export function comparedRows(families: readonly Family[]): StripRow[] {
  return MEASURES.filter(
    ({ ifAny, of }) => !ifAny || families.some(({ figures }) => of(figures) > 0),
  ).flatMap((measure) => {
    const rows = families.map((family) => ({
      ...row(family, measure),
      key: `${measure.key} ${family.family_id}`,
      label: `${measure.label} · ${family.text}`,
      hint: `${measure.hint}: ${family.text}`,
      mono: false,
      tall: false,
    }))
    const full = Math.max(...rows.map(({ full }) => full))
    return rows.map((one) => ({ ...one, full }))
  })
}
