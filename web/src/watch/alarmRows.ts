import type { Schemas } from '../api/client'
import { ago, clock, number } from '../format'
import type { Column } from '../ui/table'

export type Alarm = Schemas['AlarmFigures']

/** What somebody does about an alarm, in a few words; nothing where nobody does anything. */
export function handled(alarm: Alarm, now: Date): string {
  const parts = []
  if (alarm.silenced_by) parts.push(`silent: ${alarm.silenced_by}`)
  if (alarm.snoozed_until) parts.push(`snoozed until ${clock(alarm.snoozed_until, now, false)}`)
  if (alarm.acknowledged_by) parts.push(`acknowledged by ${alarm.acknowledged_by}`)
  if (alarm.assigned_to) parts.push(`assigned to ${alarm.assigned_to}`)
  return parts.join(', ')
}

/** What is told of each alarm in the list of them. */
export const columns = (closed: boolean): Column<Alarm>[] => [
  {
    key: 'verdict',
    title: 'alarm',
    hint: 'how urgent it is; the list is in the order of urgency until another is chosen',
    sorts: false,
    value: (row) => row.verdict,
  },
  { key: 'instance', title: 'instance', value: (row) => row.instance },
  { key: 'title', title: 'trouble', value: (row) => row.title },
  { key: 'text', title: 'what', wide: true, value: (row) => row.text },
  {
    key: 'began',
    title: 'began',
    value: (row) => row.began_at,
    text: (row) => ago(row.began_at, new Date()),
  },
  closed
    ? {
        key: 'closed',
        title: 'closed',
        value: (row) => row.closed_at,
        text: (row) => clock(row.closed_at, new Date()),
      }
    : {
        key: 'lost',
        title: 'time lost',
        hint: 'seconds lost to it in each second',
        number: true,
        value: (row) => row.lost_seconds_per_second,
        text: (row) => (row.lost_seconds_per_second > 0 ? `${number(row.lost_seconds_per_second)} s/s` : ''),
      },
  { key: 'handled', title: 'handling', value: (row) => handled(row, new Date()) },
]

/** Entries of the story of an alarm in words. */
export const HAPPENINGS: Record<Schemas['Happening'], string> = {
  opened: 'opened',
  worse: 'became urgent',
  better: 'became less urgent',
  recognised: 'cause found',
  widened: 'also',
  closed: 'closed: the trouble is gone',
  reopened: 'opened again',
  acknowledged: 'acknowledged',
  unacknowledged: 'no longer acknowledged',
  assigned: 'assigned',
  commented: 'comment',
  snoozed: 'snoozed',
}
