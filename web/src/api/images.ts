import { useQuery } from '@tanstack/react-query'
import { client, take } from './client'

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
