import { keepPreviousData, useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'
import { nothing, pageSize, useChange } from './asking'
import { client, type Schemas, take } from './client'
import type { At } from './rules'

export type RetentionPreview = Schemas['RetentionPreview']
export type RetentionItem = Schemas['RetentionItem']

// useRetention asks what the retention rules that are set would do.
export const useRetention = (at: At, enabled: boolean) =>
  useQuery({ queryKey: ['retention', at], queryFn: () => take(client.GET('/api/v1/retention', { params: { query: { ...at, limit: 2000 } } })), enabled, retry: false })

// useTryRetention asks what a list would do; nothing is changed by it.
export const useTryRetention = (at: At, words: string | undefined) =>
  useQuery({
    queryKey: ['try-retention', at, words],
    queryFn: () => take(client.POST('/api/v1/retention/preview', { params: { query: at }, body: { words: words!, limit: 2000 } })),
    enabled: words !== undefined, retry: false, placeholderData: keepPreviousData, gcTime: 60_000,
  })

export const useExplainRetention = () =>
  useMutation({ mutationFn: (query: { repository: string; target: string }) => take(client.GET('/api/v1/retention/explain', { params: { query } })) })

export const useActRules = (at: At) => useChange((reason: string) => nothing(client.POST('/api/v1/rules/act', { params: { query: { ...at, kind: 'retention' } }, body: { reason } })))

export const useRunRetention = () => useChange((place: string) => take(client.POST('/api/v1/retention/run', { body: place ? { place } : {} })))

export const useInUseLists = (enabled: boolean) => useQuery({ queryKey: ['in-use'], queryFn: () => take(client.GET('/api/v1/in-use')), enabled, retry: false })

export const entriesOf = (page: Schemas['InUseShown']) => page.entries

export const useInUse = (name: string, absent: boolean) =>
  useInfiniteQuery({
    queryKey: ['in-use', name, absent],
    queryFn: ({ pageParam }) => take(client.GET('/api/v1/in-use/{name}', { params: { path: { name }, query: { absent, after: pageParam || undefined, limit: pageSize } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    retry: false,
  })

export const useMakeInUse = () =>
  useChange(({ name, ...body }: { name: string; description?: string; keeper?: string; fresh_for?: string }) => nothing(client.PUT('/api/v1/in-use/{name}', { params: { path: { name } }, body })))
