import type { Schemas } from '../api/client'

export type Role = Schemas['Role']
/** Roles, each of which may do what those before it may. */
export const ROLES: Record<Role, { short: string; long: string }> = {
  reader: { short: 'reader: views', long: 'Reader: views everything, changes nothing' },
  tuner: { short: 'tuner: drafts, tries out', long: 'Tuner: also drafts changes and tries them out' },
  administrator: {
    short: 'administrator: applies, manages',
    long: 'Administrator: also applies changes, and manages instances, credentials and accounts',
  },
}

/** Roles to choose from, up to one's own. */
export function rolesUpTo(role: Role): { value: Role; label: string }[] {
  const names = Object.keys(ROLES) as Role[]
  return names.slice(0, names.indexOf(role) + 1).map((value) => ({ value, label: ROLES[value].short }))
}
