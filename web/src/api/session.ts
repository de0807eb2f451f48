import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Me = Schemas['Me']

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => take(client.GET('/api/v1/me')) })

export const useSignIn = () =>
  useChange((body: Schemas['SignIn']) => take(client.POST('/api/v1/session', { body })))

export const useSignOut = () => useChange(() => nothing(client.DELETE('/api/v1/session')))

// seesAll reports whether somebody may see what concerns the whole registry: its work, its
// peers, its disk. That takes a role on it.
export const seesAll = (me: Me | undefined) => me !== undefined && (me.admin || me.roles.some((r) => r.place === ''))

// may reports whether somebody may do something in a repository, there or not, as far
// as their roles say.
export const may = (me: Me | undefined, action: 'pull' | 'push' | 'delete' | 'manage', repository: string) =>
  me?.may.some((s) => s.actions.includes(action) && matches(s.pattern, repository)) ?? false

// matches is how patterns are read: * is any text, slashes included.
function matches(pattern: string, name: string): boolean {
  const parts = pattern.split('*').map((p) => p.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'))
  return new RegExp(`^${parts.join('.*')}$`).test(name)
}
