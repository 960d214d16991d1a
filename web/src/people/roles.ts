import type { Schemas } from '../api/client'

export type Role = Schemas['Role']
/** Roles, each of which may do what those before it may. */
export const ROLES: Record<Role, { short: string; long: string }> = {
  reader: { short: 'reader: sees', long: 'Reader: sees everything, changes nothing' },
  tuner: { short: 'tuner: tries out, drafts', long: 'Tuner: also tries out and drafts' },
  administrator: {
    short: 'administrator: puts in force, manages',
    long: 'Administrator: also puts in force, and manages instances, secrets and accounts',
  },
}

/** Roles to choose from, up to one's own. */
export function rolesUpTo(role: Role): { value: Role; label: string }[] {
  const names = Object.keys(ROLES) as Role[]
  return names.slice(0, names.indexOf(role) + 1).map((value) => ({ value, label: ROLES[value].short }))
}
