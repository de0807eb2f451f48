import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { nothing, pageSize, useChange, useGoing } from './asking'
import { client, type Schemas, take } from './client'

export type Tag = Schemas['Tag']
export type TagMove = Schemas['TagMove']
export type Seal = Schemas['Seal']

export type TagSort = 'name' | 'change' | 'version'

export interface TagView {
  sort: TagSort
  contains: string
  pattern: string
}

export const tagsOf = (page: Schemas['TagList']) => page.tags

export const useTags = (repository: string, view: TagView) =>
  useInfiniteQuery({
    queryKey: ['tags', repository, view],
    queryFn: ({ pageParam }) =>
      take(client.GET('/api/v1/tags', { params: { query: { repository, sort: view.sort, contains: view.contains, pattern: view.pattern, after: pageParam, limit: pageSize } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
  })

export const movesOf = (page: Schemas['TagMoveList']) => page.moves

export const useTagLog = (repository: string, tag: string) =>
  useInfiniteQuery({
    queryKey: ['tag-log', repository, tag],
    queryFn: ({ pageParam }) => take(client.GET('/api/v1/tag-log', { params: { query: { repository, tag: tag || undefined, before: pageParam || undefined, limit: 100 } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })

export type TagChanges = Schemas['TagChanges']

export const useChangeTags = (repository: string) =>
  useGoing((body: TagChanges) => take(client.POST('/api/v1/tags', { params: { query: { repository } }, body })))

export const useChangeSeal = (repository: string) =>
  useChange((body: Schemas['SealChange']) => nothing(client.POST('/api/v1/seal', { params: { query: { repository } }, body })))

export const useRemovalPlan = (query: { namespace?: string; repository?: string; reference?: string; whole?: boolean }, enabled: boolean) =>
  useQuery({
    queryKey: ['removal-plan', query],
    queryFn: () => take(client.GET('/api/v1/removal-plan', { params: { query } })),
    enabled,
    placeholderData: keepPreviousData,
  })

export const useRemoveImage = (repository: string) =>
  useGoing((query: { digest: string; whole?: boolean; reason?: string }) => take(client.DELETE('/api/v1/image', { params: { query: { repository, ...query } } })))
