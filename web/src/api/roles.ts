import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Role = Schemas['Role']

export const useRoles = (place: string, enabled: boolean) =>
  useQuery({ queryKey: ['roles', place], queryFn: () => take(client.GET('/api/v1/roles', { params: { query: { place, above: true } } })), enabled })

export const useRolesOf = (name: string) =>
  useQuery({ queryKey: ['roles of', name], queryFn: () => take(client.GET('/api/v1/accounts/{name}/roles', { params: { path: { name } } })) })

export const useGiveRole = () => useChange((body: Schemas['NewRole']) => nothing(client.PUT('/api/v1/roles', { body })))

export const useTakeRole = () =>
  useChange((role: { place: string; account?: string; group?: string }) => nothing(client.DELETE('/api/v1/roles', { params: { query: role } })))

export interface Narrowing {
  account?: string
  group?: string
  insteadOf: string
  place: string
  role: Role['role']
}

// useRoleUses tells what narrowing a role would have refused; it is asked once the place
// has a name.
export const useRoleUses = (n: Narrowing, enabled: boolean) =>
  useQuery({
    queryKey: ['role uses', n],
    queryFn: () => take(client.GET('/api/v1/roles/uses', { params: { query: { account: n.account, group: n.group, place: n.place, instead_of: n.insteadOf, role: n.role } } })),
    enabled,
    retry: false,
  })
