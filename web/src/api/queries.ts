import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useState } from 'react'
import { client, type Schemas, take } from './client'

export type Sort = 'name' | 'change'

export interface ListView {
  sort: Sort
  contains: string
}

const pageSize = 200

interface Pages<Page> {
  data?: { pages: Page[] }
  hasNextPage: boolean
  isFetchingNextPage: boolean
  fetchNextPage: () => unknown
}

// useRows gathers the rows of the pages that have come, and what a table needs to
// ask for more. rowsOf is the same function each time.
export function useRows<Page, Row>(list: Pages<Page>, rowsOf: (page: Page) => Row[]) {
  const rows = useMemo(() => list.data?.pages.flatMap(rowsOf) ?? [], [list.data, rowsOf])
  const { fetchNextPage, isFetchingNextPage } = list
  const onMore = useCallback(() => void (isFetchingNextPage || fetchNextPage()), [isFetchingNextPage, fetchNextPage])
  return { rows, paging: { more: list.hasNextPage, onMore } }
}

export const repositoriesOf = (page: Schemas['RepositoryList']) => page.repositories

export const useService = () =>
  useQuery({ queryKey: ['service'], queryFn: () => take(client.GET('/api/v1/service')), staleTime: Infinity })

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

export type Line = 'connecting' | 'live' | 'broken'

// useChanges keeps every list up to date: each change that the registry tells of
// makes the answers that it touches be asked for again. The line is open only
// while the page is in sight: browsers allow few connections to one host, and
// pages in the background must not use them up.
export function useChanges(): Line {
  const queries = useQueryClient()
  const [line, setLine] = useState<Line>('connecting')
  useEffect(() => {
    let stream: EventSource | undefined
    let late: ReturnType<typeof setTimeout> | undefined
    let missed = false
    // Many changes in a row, as one push brings, are one reason to ask again.
    const askAgain = () => {
      late ??= setTimeout(() => {
        late = undefined
        void queries.invalidateQueries()
      }, 150)
    }
    const close = () => {
      if (stream === undefined) return
      stream.close()
      stream = undefined
      missed = true
      setLine('connecting')
    }
    const open = () => {
      if (stream !== undefined || document.visibilityState === 'hidden') return
      stream = new EventSource('/api/v1/changes')
      stream.onopen = () => {
        setLine('live')
        if (missed) askAgain()
        missed = false
      }
      stream.onerror = () => {
        missed = true
        setLine('broken')
      }
      stream.addEventListener('change', askAgain)
    }
    const follow = () => (document.visibilityState === 'hidden' ? close() : open())
    open()
    document.addEventListener('visibilitychange', follow)
    window.addEventListener('pagehide', close)
    window.addEventListener('pageshow', open)
    return () => {
      document.removeEventListener('visibilitychange', follow)
      window.removeEventListener('pagehide', close)
      window.removeEventListener('pageshow', open)
      close()
      clearTimeout(late)
    }
  }, [queries])
  return line
}
