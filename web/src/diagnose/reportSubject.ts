import type { Schemas } from '../api/client'

/** Which report a dialog means, and of whom it is. */
export interface Subject {
  kind: Schemas['ReportKind']
  /** The instance, of a report on one. */
  instance: number | undefined
  /** The group, of a report on many; all where it is empty. */
  group: string
  /** Names of sections with commas between them; all where it is left out. */
  sections: string | undefined
}
export const FRESH_SUBJECT: Subject = {
  kind: 'instances',
  instance: undefined,
  group: '',
  sections: undefined,
}
/** The same as the API takes it. */
export function asBody({ kind, instance, group, sections }: Subject) {
  const isOne = kind !== 'instances'
  return {
    kind,
    instance_id: isOne ? instance : undefined,
    group: isOne ? undefined : group || undefined,
    sections,
  }
}
