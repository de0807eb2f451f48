import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Run = Schemas['Run']
export type SweepItem = Schemas['SweepItem']
export type Sum = Schemas['Sum']

export const isOpen = (run: Run | undefined) => run?.state === 'waiting' || run?.state === 'going'

// How often open runs are looked at, and all others.
const often = 700
const seldom = 15_000

export const useRuns = (kind: string) =>
  useQuery({
    queryKey: ['runs', kind],
    queryFn: () => take(client.GET('/api/v1/runs', { params: { query: { kind: kind || undefined, limit: 50 } } })),
    refetchInterval: (query) => (query.state.data?.runs.some(isOpen) ? often : seldom),
  })

export const useRun = (id: number | undefined) =>
  useQuery({
    queryKey: ['run', id],
    queryFn: () => take(client.GET('/api/v1/runs/{id}', { params: { path: { id: id! } } })),
    enabled: id !== undefined,
    refetchInterval: (query) => (isOpen(query.state.data) ? often : false),
  })

export const useRunKinds = () =>
  useQuery({ queryKey: ['run-kinds'], queryFn: () => take(client.GET('/api/v1/run-kinds')), refetchInterval: seldom })

export const itemsOf = (page: Schemas['SweepItems']) => page.items

export const useItems = (run: number | undefined, kind: string) =>
  useInfiniteQuery({
    queryKey: ['items', run, kind],
    queryFn: ({ pageParam }) =>
      take(client.GET('/api/v1/runs/{id}/items', { params: { path: { id: run! }, query: { kind: (kind || undefined) as 'blob' | undefined, after: pageParam || undefined, limit: 200 } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    enabled: run !== undefined,
  })

export const useStopRun = () => useChange((id: number) => nothing(client.POST('/api/v1/runs/{id}/stop', { params: { path: { id } } })))
export const useSweep = () => useChange((body: Schemas['AskSweep']) => take(client.POST('/api/v1/sweeps', { body })))
export const useScrub = () => useChange((body: Schemas['AskScrub']) => take(client.POST('/api/v1/scrubs', { body })))
