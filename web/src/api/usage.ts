import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Usage = Schemas['Usage']
export type UsageChild = Schemas['UsageChild']

const asked = (place: string) => ({ query: { place: place || undefined } })

export const useUsage = (place: string) =>
  useQuery({ queryKey: ['usage', place], queryFn: () => take(client.GET('/api/v1/usage', { params: asked(place) })), retry: false, staleTime: 20_000 })

export const useGrowth = (place: string, enabled: boolean) =>
  useQuery({ queryKey: ['growth', place], queryFn: () => take(client.GET('/api/v1/usage/growth', { params: { query: { place: place || undefined, days: 366 } } })), enabled, retry: false, staleTime: 60_000 })

export const useTraffic = (place: string, by: 'day' | 'namespace' | 'account', enabled: boolean) =>
  useQuery({ queryKey: ['traffic', place, by], queryFn: () => take(client.GET('/api/v1/usage/traffic', { params: { query: { place: place || undefined, by, days: 30 } } })), enabled, retry: false, staleTime: 20_000 })

export const useSetQuota = () => useChange((body: Schemas['SetQuota']) => nothing(client.PUT('/api/v1/quota', { body })))

export const useEndWindows = () => useChange((body: Schemas['EndWindows']) => nothing(client.POST('/api/v1/removals/end', { body })))
