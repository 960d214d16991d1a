import type { Schemas } from '../api/client'
import { number, percent } from '../format'
import type { StripRow } from '../pictures/StripStack.vue'

export type By = Schemas['Dimension']
type Parts = Schemas['LoadParts']

/** What the load can be looked at by, in the order of the score, and what is said where a part is not known. */
export const GROUPS: { by: By; title: string; one: string; unknown: string }[] = [
  { by: 'family', title: 'Statements', one: 'statement', unknown: '(text not known)' },
  { by: 'event', title: 'Wait events', one: 'wait event', unknown: '(no wait: running)' },
  { by: 'account', title: 'Accounts', one: 'account', unknown: '(the server itself)' },
  { by: 'program', title: 'Programs', one: 'program', unknown: '(no name given)' },
  { by: 'client', title: 'Clients', one: 'client', unknown: '(on the server itself)' },
  { by: 'database', title: 'Databases', one: 'database', unknown: '(no database)' },
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
/** Chooses a part, in place of another of its group, or no longer. */
export function toggle(chosen: readonly Chosen[], one: Chosen): Chosen[] {
  const others = chosen.filter((other) => other.by !== one.by)
  return chosen.some((other) => other.by === one.by && other.part === one.part) ? others : [...others, one]
}

export const keyOf = ({ by, part }: Chosen) => `${by}:${part}`
export const nameOf = (by: By, name: string) =>
  name || (GROUPS.find((group) => group.by === by)?.unknown ?? '')

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
      label: nameOf(by, part.name),
      hint: nameOf(by, part.name),
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
