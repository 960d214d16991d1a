import type { Schemas } from '../api/client'
import { byName } from '../format'
import type { Instance } from '../stores/roster'

/** A row of the roster: the head of a group, or an instance. */
export type RosterRow =
  | { kind: 'group'; name: string; key: string; count: number; isFolded: boolean }
  | { kind: 'instance'; instance: Instance; isPinned: boolean }

/** What is to be seen of the roster. */
export interface RosterView {
  filter: string
  health: Schemas['Health'] | ''
  preferences: Schemas['Preferences']
}

const PINNED = 'Pinned'
const NO_GROUP = 'No group'

/**
 * The rows of the roster: what is pinned in its own order, then group by group. Instances come in the order given,
 * the most urgent first, or by label. While a text is looked for, nothing is folded.
 */
export function rosterRows(instances: readonly Instance[], view: RosterView): RosterRow[] {
  const { pinned, folded_groups, order } = view.preferences
  const wanted = view.filter.trim().toLowerCase()
  const shown = instances.filter(
    (one) => one.label.toLowerCase().includes(wanted) && (view.health === '' || one.health === view.health),
  )
  if (order === 'label') shown.sort((a, b) => byName(a.label, b.label))
  const byId = new Map(shown.map((one) => [one.instance_id, one]))
  const kept = pinned.map((id) => byId.get(id)).filter((one) => one !== undefined)
  const rest = shown.filter((one) => !pinned.includes(one.instance_id))
  const names = [...new Set(rest.map((one) => one.group ?? ''))].sort(
    (a, b) => Number(a === '') - Number(b === '') || byName(a, b),
  )
  const has = (name: string) => rest.filter((one) => (one.group ?? '') === name)
  const groups = [
    { name: PINNED, key: ' pinned', all: kept, isPinned: true },
    ...names.map((name) => ({ name: name || NO_GROUP, key: name, all: has(name), isPinned: false })),
  ].filter(({ all }) => all.length > 0)
  return groups.flatMap(({ name, key, all, isPinned }) => {
    const isFolded = wanted === '' && folded_groups.includes(key)
    const head: RosterRow = { kind: 'group', name, key, count: all.length, isFolded }
    const entries = isFolded
      ? []
      : all.map((instance): RosterRow => ({ kind: 'instance', instance, isPinned }))
    // One group of all needs no head.
    return groups.length === 1 && key === '' ? entries : [head, ...entries]
  })
}
