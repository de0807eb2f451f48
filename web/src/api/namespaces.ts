import { useQuery } from '@tanstack/react-query'
import { nothing, useChange, useGoing } from './asking'
import { client, type Schemas, take } from './client'

export type Namespace = Schemas['Namespace']

export const useNamespaces = (contains: string) =>
  useQuery({
    queryKey: ['namespaces', contains],
    queryFn: () => take(client.GET('/api/v1/namespaces', { params: { query: { contains, limit: 1000 } } })),
  })

export const useNamespace = (name: string) =>
  useQuery({ queryKey: ['namespace', name], queryFn: () => take(client.GET('/api/v1/namespaces/{name}', { params: { path: { name } } })) })

export const useChangeNamespace = (name: string) =>
  useChange((body: Schemas['PlaceChange']) => nothing(client.PATCH('/api/v1/namespaces/{name}', { params: { path: { name } }, body })))

export const useMakeNamespace = () => useChange((body: Schemas['NewPlace']) => nothing(client.POST('/api/v1/namespaces', { body })))

export const useRemoveNamespace = () =>
  useGoing(({ name, ...how }: { name: string; reason?: string; over_seals?: string }) => take(client.DELETE('/api/v1/namespaces/{name}', { params: { path: { name }, query: how } })))

export const useRestoreNamespace = () =>
  useChange((name: string) => nothing(client.POST('/api/v1/namespaces/{name}/restore', { params: { path: { name } } })))
