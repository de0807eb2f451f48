import type { Role } from '../api/roles'

// The roles with what they allow, and how whoever has one is called.

export const roleNames = [
  { value: 'reader', name: 'reader: pull' },
  { value: 'writer', name: 'writer: also push' },
  { value: 'curator', name: 'curator: also remove, move tags by hand, seal' },
  { value: 'owner', name: 'owner: also rules, members and settings' },
]

export const nameOf = (r: Role) => (r.group ? `group ${r.group}` : (r.account ?? ''))
