import type { Schemas } from '../api/client'
import { bytes, number, percent } from '../format'
import type { StripRow } from '../pictures/StripStack.vue'

type Cell = Schemas['DatabaseCell']
type Work = Schemas['DatabaseWork']

/** Share of the pages wanted that were in the server's cache; nothing where none was wanted. */
export function hitShare(work: Work): number | null {
  const wanted = work.hit_pages + work.read_pages
  return wanted > 0 ? work.hit_pages / wanted : null
}

/** The cells of a window with gaps where nothing was counted. */
export function withGaps(
  cells: Cell[],
  from: string,
  to: string,
  cellSeconds: number,
): { starts: Date[]; cells: (Cell | null)[] } {
  const step = cellSeconds * 1000
  const first = Math.floor(new Date(from).getTime() / step) * step
  const known = new Map(cells.map((cell) => [new Date(cell.at).getTime(), cell]))
  const starts: Date[] = []
  for (let at = first; at < new Date(to).getTime(); at += step) starts.push(new Date(at))
  return { starts, cells: starts.map((start) => known.get(start.getTime()) ?? null) }
}

/** Rows of what a database did over time. */
export function databaseRows(cells: (Cell | null)[], whole: Work, seconds: number): StripRow[] {
  const row = (
    key: string,
    label: string,
    hint: string,
    of: (work: Work, seconds: number) => number | null,
    write: (value: number) => string,
    tall = false,
  ): StripRow => {
    const values = cells.map((cell) => (cell && cell.seconds > 0 ? of(cell.work, cell.seconds) : null))
    const peak = Math.max(...values.map((value) => value ?? 0), 0)
    const mean = seconds > 0 ? of(whole, seconds) : null
    const figures = [mean === null ? number(null) : write(mean), write(peak)]
    return { key, label, hint, values, ink: 'url(#ink-plum)', figures, full: peak || 1, tall, write }
  }
  const perSecond = (value: number) => `${number(value)} /s`
  return [
    row('commits', 'commits', 'transactions committed per second', (w, s) => w.commits / s, perSecond, true),
    row(
      'rollbacks',
      'rolled back',
      'transactions rolled back per second',
      (w, s) => w.rollbacks / s,
      perSecond,
    ),
    row(
      'changed',
      'rows changed',
      'rows inserted, updated, deleted per second',
      (w, s) => w.changed_rows / s,
      perSecond,
    ),
    row(
      'read',
      'pages read',
      'pages read from outside the cache per second',
      (w, s) => w.read_pages / s,
      perSecond,
    ),
    row('missed', 'not in cache', 'share of the pages wanted', (w) => 1 - (hitShare(w) ?? 1), percent),
    row(
      'temp',
      'spilled',
      'bytes written to temporary files per second',
      (w, s) => w.temp_bytes / s,
      (value) => `${bytes(value)}/s`,
    ),
    row('sessions', 'new sessions', 'sessions begun per second', (w, s) => w.sessions / s, perSecond),
  ]
}
