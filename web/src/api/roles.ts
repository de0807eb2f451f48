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
