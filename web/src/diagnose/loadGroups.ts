import type { Schemas } from '../api/client'
import { number, percent } from '../format'
import type { StripRow } from '../pictures/StripStack.vue'

export type By = Schemas['Dimension']
type Parts = Schemas['LoadParts']

/**
 * What the load can be looked at by, in the order of the score; what is said where a part has no name, and where a
 * session is of none, if that is another thing.
 */
export const GROUPS: { by: By; title: string; one: string; unknown: string; none?: string }[] = [
  { by: 'family', title: 'Statements', one: 'statement', unknown: '(text not known)' },
  { by: 'event', title: 'Wait events', one: 'wait event', unknown: '(no wait: running)' },
  { by: 'account', title: 'Accounts', one: 'account', unknown: '(the server itself)' },
  { by: 'program', title: 'Programs', one: 'program', unknown: '(no name given)' },
  { by: 'client', title: 'Clients', one: 'client', unknown: '(on the server itself)' },
  { by: 'database', title: 'Databases', one: 'database', unknown: '(no database)' },
  {
    by: 'awaited_table',
    title: 'Tables waited for',
    one: 'table waited for',
    unknown: '(lock of no table)',
    none: '(no lock, or not kept then)',
  },
]
/** Parts of a group that are shown first, and how many more each time. */
export const FEW = 5
export const MORE = 10
export const MOST = 40

/** The parts that a page is narrowed to, as its address has them: `account:12,event:`. */
export interface Chosen {
  by: By
  part: string
}
export function parseChosen(text: unknown): Chosen[] {
  return String(text ?? '')
    .split(',')
    .flatMap((one) => {
      const [by, part = ''] = one.split(':')
      const known = GROUPS.find((group) => group.by === by)
      return known && /^\d*$/.test(part) ? [{ by: known.by, part }] : []
    })
}
export function writeChosen(chosen: readonly Chosen[]): string | undefined {
  return chosen.map(({ by, part }) => `${by}:${part}`).join(',') || undefined
}
/** Chooses a part, in place of others of its group or besides them, or no longer. */
export function toggle(chosen: readonly Chosen[], one: Chosen, besides = false): Chosen[] {
  const isOn = chosen.some((other) => keyOf(other) === keyOf(one))
  const others = chosen.filter((other) => (besides ? keyOf(other) !== keyOf(one) : other.by !== one.by))
  return isOn ? others : [...others, one]
}

export const keyOf = ({ by, part }: Chosen) => `${by}:${part}`
export function nameOf(by: By, name: string, part: string): string {
  const group = GROUPS.find((group) => group.by === by)
  return name || (part ? group?.unknown : (group?.none ?? group?.unknown)) || ''
}

/**
 * Rows of a group: its head, its heaviest parts on one scale of their own, and what is left. `kinds` is what a chosen
 * part consists of, by cell; `compares` leaves the column of what is compared with empty.
 */
export function groupRows(
  by: By,
  parts: Parts | null,
  chosen: readonly Chosen[],
  kinds: (readonly number[] | null)[] | undefined,
  compares = false,
): StripRow[] {
  const last = compares ? [''] : []
  const group = GROUPS.find((group) => group.by === by)!
  const head: StripRow = {
    key: `fold ${by}`,
    label: group.title,
    values: [],
    ink: '',
    figures: parts ? ['mean', 'share', ...last] : [],
    full: 1,
    press: 'fold',
    isOn: parts !== null,
    write: number,
  }
  if (!parts) return [head]
  const full = Math.max(...parts.parts.flatMap((part) => part.cells.map((cell) => cell ?? 0)), 0.05)
  const rows = parts.parts.map((part): StripRow => {
    const one = { by, part: part.part ?? '' }
    const isOn = chosen.some((other) => keyOf(other) === keyOf(one))
    return {
      key: keyOf(one),
      label: nameOf(by, part.name, one.part),
      hint: nameOf(by, part.name, one.part),
      values: part.cells,
      ink: 'var(--muted)',
      kinds: isOn ? kinds : undefined,
      figures: [number(part.load.total), percent(part.share), ...last],
      full,
      press: 'choose',
      isOn,
      mono: by === 'family' && part.name !== '',
      write: number,
    }
  })
  const left = parts.count - parts.parts.length
  const rest: StripRow = {
    key: `more ${by}`,
    label: `${left} more`,
    values: [],
    ink: '',
    figures: ['', percent(parts.share_of_others), ...last],
    full: 1,
    press: 'more',
    write: number,
  }
  return [head, ...rows, ...(left > 0 ? [rest] : [])]
}
