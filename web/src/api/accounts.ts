import { useInfiniteQuery } from '@tanstack/react-query'
import { nothing, pageSize, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Account = Schemas['Account']

export const useAccounts = (contains: string, enabled = true) =>
  useInfiniteQuery({
    queryKey: ['accounts', contains],
    queryFn: ({ pageParam }) => take(client.GET('/api/v1/accounts', { params: { query: { contains, after: pageParam, limit: pageSize } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    enabled,
  })

export const accountsOf = (page: Schemas['AccountList']) => page.accounts

export const useMakeAccount = () => useChange((body: Schemas['NewAccount']) => take(client.POST('/api/v1/accounts', { body })))

export const useChangeAccount = () =>
  useChange(({ name, ...body }: Schemas['AccountChange'] & { name: string }) =>
    nothing(client.PATCH('/api/v1/accounts/{name}', { params: { path: { name } }, body })),
  )

export const useSetPassword = () =>
  useChange(({ name, ...body }: Schemas['NewPassword'] & { name: string }) =>
    nothing(client.PUT('/api/v1/accounts/{name}/password', { params: { path: { name } }, body })),
  )
