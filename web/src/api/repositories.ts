import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { type ListView, nothing, pageSize, useChange, useGoing } from './asking'
import { client, type Schemas, take } from './client'

export const repositoriesOf = (page: Schemas['RepositoryList']) => page.repositories

export const useRepositories = (view: ListView, namespace?: string, enabled = true) =>
  useInfiniteQuery({
    queryKey: ['repositories', view, namespace],
    queryFn: ({ pageParam }) =>
      take(client.GET('/api/v1/repositories', { params: { query: { ...view, namespace, after: pageParam, limit: pageSize } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    enabled,
  })

export const useRepository = (repository: string) =>
  useQuery({
    queryKey: ['repository', repository],
    queryFn: () => take(client.GET('/api/v1/repository', { params: { query: { repository } } })),
  })

export const useMakeRepository = () => useChange((body: Schemas['NewPlace']) => nothing(client.POST('/api/v1/repositories', { body })))

export const useChangeRepository = (repository: string) =>
  useChange((body: Schemas['PlaceChange']) => nothing(client.PATCH('/api/v1/repository', { params: { query: { repository } }, body })))

export const useRemoveRepository = () =>
  useGoing(({ name, ...how }: { name: string; reason?: string; over_seals?: string }) => take(client.DELETE('/api/v1/repository', { params: { query: { repository: name, ...how } } })))

export const useRestoreRepository = () =>
  useChange((repository: string) => nothing(client.POST('/api/v1/repository/restore', { params: { query: { repository } } })))
