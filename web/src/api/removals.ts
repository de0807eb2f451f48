import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Removal = Schemas['Removal']

export const removalsOf = (page: Schemas['RemovalList']) => page.removals

export const useRemovals = (place: string, undone: boolean) =>
  useInfiniteQuery({
    queryKey: ['removals', place, undone],
    queryFn: ({ pageParam }) => take(client.GET('/api/v1/removals', { params: { query: { place: place || undefined, undone, before: pageParam || undefined, limit: 100 } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })

export const useRemoval = (id: number, enabled: boolean) =>
  useQuery({ queryKey: ['removal', id], queryFn: () => take(client.GET('/api/v1/removals/{id}', { params: { path: { id } } })), enabled })

export const useUndo = () =>
  useChange(({ id, ...body }: { id: number; as?: Record<string, string>; name?: string }) => take(client.POST('/api/v1/removals/{id}/undo', { params: { path: { id } }, body })))
