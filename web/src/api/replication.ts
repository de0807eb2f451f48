import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { nothing, useChange, useGoing } from './asking'
import { client, type Schemas, take } from './client'

export type Replication = Schemas['Replication']
export type ReplicationRule = Schemas['ReplicationRule']
export type DueItem = Schemas['DueItem']
export type DriftReport = Schemas['DriftReport']

// What travels is asked for often while something does, and seldom otherwise.
const [often, seldom] = [1_500, 10_000]
const isMoving = (r: Replication) => r.due + r.places > 0 && !r.paused

export const useReplications = () =>
  useQuery({
    queryKey: ['replications'], queryFn: () => take(client.GET('/api/v1/replications')), retry: false,
    refetchInterval: (query) => (query.state.data?.replications.some(isMoving) ? often : seldom),
  })

export const useReplication = (name: string) =>
  useQuery({
    queryKey: ['replication', name], queryFn: () => take(client.GET('/api/v1/replications/{name}', { params: { path: { name } } })), retry: false,
    refetchInterval: (query) => (query.state.data && isMoving(query.state.data) ? often : seldom),
  })

export const useMakeReplication = () => useChange((body: ReplicationRule) => take(client.POST('/api/v1/replications', { body })))
export const useChangeReplication = (name: string) =>
  useChange((body: Schemas['ChangeReplication']) => take(client.PUT('/api/v1/replications/{name}', { params: { path: { name } }, body })))
export const useRemoveReplication = () => useGoing((name: string) => nothing(client.DELETE('/api/v1/replications/{name}', { params: { path: { name } } })))
export const useRunReplication = (name: string) =>
  useChange((body: Schemas['RunReplication']) => take(client.POST('/api/v1/replications/{name}/run', { params: { path: { name } }, body })))
export const usePauseReplication = (name: string) =>
  useChange((paused: boolean) => take(client.POST('/api/v1/replications/{name}/pause', { params: { path: { name } }, body: { paused } })))

export type DueState = 'due' | 'waits' | 'conflict' | 'asks' | 'failing' | ''

export const itemsOf = (page: Schemas['DueList']) => page.items

export const useDue = (name: string, state: DueState) =>
  useInfiniteQuery({
    queryKey: ['due', name, state],
    queryFn: ({ pageParam }) => take(client.GET('/api/v1/replications/{name}/due', { params: { path: { name }, query: { state: state || undefined, after: pageParam || undefined, limit: 200 } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    refetchInterval: 5_000, retry: false,
  })

export const isComparing = (d: DriftReport | undefined) => d?.state === 'waiting' || d?.state === 'going'

export const driftOf = (page: DriftReport) => page.items

export const useDrift = (name: string) =>
  useInfiniteQuery({
    queryKey: ['drift', name],
    queryFn: ({ pageParam }) => take(client.GET('/api/v1/replications/{name}/drift', { params: { path: { name }, query: { after: pageParam || undefined, limit: 200 } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
    refetchInterval: (query) => (isComparing(query.state.data?.pages[0]) ? often : false), retry: false,
  })

export const useCompare = (name: string) => useChange((right: boolean) => take(client.POST('/api/v1/replications/{name}/drift', { params: { path: { name } }, body: { right } })))

export const useFlowSamples = (name: string, hours: number) =>
  useQuery({
    queryKey: ['flow-samples', name, hours], queryFn: () => take(client.GET('/api/v1/replications/{name}/samples', { params: { path: { name }, query: { hours } } })),
    refetchInterval: 60_000, retry: false,
  })
