import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export const useService = () =>
  useQuery({ queryKey: ['service'], queryFn: () => take(client.GET('/api/v1/service')), staleTime: Infinity })

export type Settings = Schemas['Settings']

export const useSettings = () => useQuery({ queryKey: ['settings'], queryFn: () => take(client.GET('/api/v1/settings')) })

export const useChangeSettings = () => useChange((body: Settings) => nothing(client.PUT('/api/v1/settings', { body })))
