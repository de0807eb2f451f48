import { useInfiniteQuery } from '@tanstack/react-query'
import { pageSize } from './asking'
import { client, type Schemas, take } from './client'

export type Line = Schemas['Line']

export interface AuditView {
  account: string
  namespace: string
  repository: string
  kind: string
  verdict: string
}

// Without asked nothing is asked for.
export const useAudit = (view: AuditView, asked: boolean) =>
  useInfiniteQuery({
    queryKey: ['audit', view],
    queryFn: ({ pageParam }) =>
      take(
        client.GET('/api/v1/audit', {
          params: {
            query: {
              account: view.account || undefined, namespace: view.namespace || undefined, repository: view.repository || undefined,
              kind: view.kind || undefined, verdict: (view.verdict || undefined) as 'done' | 'refused' | undefined, before: pageParam || undefined, limit: pageSize,
            },
          },
        }),
      ),
    enabled: asked,
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })
