import { useQuery } from '@tanstack/react-query'
import { client, type Schemas, take } from './client'

export type Hurt = Schemas['Hurt']
export type Holder = Schemas['Holder']
export type ChainLink = Schemas['Link']

export const useHealth = () => useQuery({ queryKey: ['health'], queryFn: () => take(client.GET('/api/v1/health')), refetchInterval: 15_000 })

export const useHurts = () => useQuery({ queryKey: ['hurts'], queryFn: () => take(client.GET('/api/v1/hurts', { params: { query: { limit: 1000 } } })) })

export const useHurt = (digest: string, enabled: boolean) =>
  useQuery({ queryKey: ['hurt', digest], queryFn: () => take(client.GET('/api/v1/hurts/{digest}', { params: { path: { digest } } })), enabled })

export const useExplain = (digest: string, repository: string | undefined, enabled: boolean) =>
  useQuery({ queryKey: ['explain', digest, repository], queryFn: () => take(client.GET('/api/v1/explain', { params: { query: { digest, repository } } })), enabled })
