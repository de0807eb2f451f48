import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { type ListView, pageSize } from './asking'
import { client, type Schemas, take } from './client'

export const repositoriesOf = (page: Schemas['RepositoryList']) => page.repositories

export const useRepositories = (view: ListView, namespace?: string) =>
  useInfiniteQuery({
    queryKey: ['repositories', view, namespace],
    queryFn: ({ pageParam }) =>
      take(client.GET('/api/v1/repositories', { params: { query: { ...view, namespace, after: pageParam, limit: pageSize } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  })

export const useRepository = (repository: string) =>
  useQuery({
    queryKey: ['repository', repository],
    queryFn: () => take(client.GET('/api/v1/repository', { params: { query: { repository } } })),
  })
