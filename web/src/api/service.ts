import { useQuery } from '@tanstack/react-query'
import { client, take } from './client'

export const useService = () =>
  useQuery({ queryKey: ['service'], queryFn: () => take(client.GET('/api/v1/service')), staleTime: Infinity })
