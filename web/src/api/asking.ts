import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useCallback, useMemo } from 'react'
import { take } from './client'

// nothing is what answers without a body are taken for.
export const nothing = (asked: Promise<{ data?: unknown; error?: { detail?: string }; response: Response }>) =>
  take(asked.then((a) => ({ ...a, data: a.response.ok ? true : undefined })))

// useChange runs a change and asks all lists again.
export function useChange<In, Out = unknown>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient()
  return useMutation({ mutationFn: change, onSuccess: () => queries.invalidateQueries() })
}

// useGoing is useChange for what takes away the place that asks for it: whoever asked is
// told before the lists are asked again, since it is gone from sight then.
export function useGoing<In, Out = unknown>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient()
  return useMutation({ mutationFn: change, onSuccess: () => void setTimeout(() => void queries.invalidateQueries()) })
}

// pageSize is how many rows one request of a list asks for.
export const pageSize = 200

export type Sort = 'name' | 'change'

export interface ListView {
  sort: Sort
  contains: string
}

export interface Pages<Page> {
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
