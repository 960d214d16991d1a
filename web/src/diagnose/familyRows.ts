import type { Schemas } from '../api/client'
import { milliseconds, number } from '../format'
import type { StripRow } from '../pictures/StripStack.vue'

type Family = Schemas['FamilyFigures']
type Cell = Family['cells'][number]

/** Rows of one family's own figures. Cells that were not observed are gaps; ratios need calls. */
export function familyRows(family: Family): StripRow[] {
  const perSecond = (value: (cell: Cell) => number) => (cell: Cell) =>
    cell.seconds > 0 ? value(cell) / cell.seconds : null
  // Where nothing was called a ratio does not exist, which is no gap in the watching.
  const perCall = (value: (cell: Cell) => number) => (cell: Cell) =>
    cell.seconds > 0 ? (cell.figures.calls > 0 ? value(cell) / cell.figures.calls : 0) : null
  const whole = family.figures
  const seconds = family.cells.reduce((sum, cell) => sum + cell.seconds, 0)
  const each = (sum: number, by: number) => (by > 0 ? sum / by : null)
  const pages = (figures: Cell['figures']) => figures.hit_pages + figures.read_pages

  const row = (
    key: string,
    label: string,
    hint: string,
    value: (cell: Cell) => number | null,
    mean: number | null,
    write: (value: number) => string,
    tall = false,
  ): StripRow => {
    const values = family.cells.map(value)
    const peak = Math.max(...values.map((value) => value ?? 0), 0)
    const figures = [mean === null ? number(null) : write(mean), write(peak)]
    return { key, label, hint, values, ink: 'url(#ink-plum)', figures, full: peak || 1, tall, write }
  }
  return [
    row(
      'time',
      'time',
      'seconds of execution per second',
      perSecond((cell) => cell.figures.exec_us / 1e6),
      each(whole.exec_us / 1e6, seconds),
      (value) => `${number(value)} s/s`,
      true,
    ),
    row(
      'mean',
      'time per call',
      'mean of the calls that ended in the cell',
      perCall((cell) => cell.figures.exec_us / 1e3),
      each(whole.exec_us / 1e3, whole.calls),
      milliseconds,
    ),
    row(
      'calls',
      'calls',
      'calls per second',
      perSecond((cell) => cell.figures.calls),
      each(whole.calls, seconds),
      (value) => `${number(value)} /s`,
    ),
    row(
      'pages',
      'pages per call',
      'pages touched, in cache or out of it',
      perCall((cell) => pages(cell.figures)),
      each(pages(whole), whole.calls),
      number,
    ),
    row(
      'rows',
      'rows per call',
      'rows returned or changed',
      perCall((cell) => cell.figures.rows),
      each(whole.rows, whole.calls),
      number,
    ),
  ]
}
