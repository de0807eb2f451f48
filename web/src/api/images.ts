import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { type ListView, pageSize } from './asking'
import { client, take } from './client'

export const useTags = (repository: string, view: ListView) =>
  useInfiniteQuery({
    queryKey: ['tags', repository, view],
    queryFn: ({ pageParam }) =>
      take(client.GET('/api/v1/tags', { params: { query: { repository, ...view, after: pageParam, limit: pageSize } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  })

export const useImage = (repository: string, reference: string) =>
  useQuery({
    queryKey: ['image', repository, reference],
    queryFn: () => take(client.GET('/api/v1/image', { params: { query: { repository, reference } } })),
  })

export const useFind = (q: string) =>
  useQuery({
    queryKey: ['find', q],
    queryFn: () => take(client.GET('/api/v1/find', { params: { query: { q } } })),
    enabled: q !== '',
  })
