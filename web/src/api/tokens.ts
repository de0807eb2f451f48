import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Token = Schemas['Token']
export type MadeToken = Schemas['MadeToken']

export const useTokens = (account?: string) =>
  useQuery({ queryKey: ['tokens', account], queryFn: () => take(client.GET('/api/v1/tokens', { params: { query: { account } } })) })

export const useMakeToken = () => useChange((body: Schemas['NewToken']) => take(client.POST('/api/v1/tokens', { body })))

export interface WhichToken {
  account?: string
  id: number
}

export const useRevokeToken = () =>
  useChange(({ account, id }: WhichToken) =>
    nothing(client.DELETE('/api/v1/tokens/{token}', { params: { path: { token: String(id) }, query: { account } } })),
  )

export const useReplaceToken = () =>
  useChange(({ account, id, password }: WhichToken & { password?: string }) =>
    take(client.POST('/api/v1/tokens/{token}/replace', { params: { path: { token: String(id) }, query: { account } }, body: { password } })),
  )
