import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type IdentityRule = Schemas['IdentityRule']

export const useIdentityRules = () => useQuery({ queryKey: ['identity rules'], queryFn: () => take(client.GET('/api/v1/identity-rules')) })

export const useMakeIdentityRule = () => useChange((body: IdentityRule) => nothing(client.POST('/api/v1/identity-rules', { body })))

export const useRemoveIdentityRule = () =>
  useChange((name: string) => nothing(client.DELETE('/api/v1/identity-rules/{name}', { params: { path: { name } } })))

export const useRotateKeys = () => useChange(() => nothing(client.POST('/api/v1/keys/rotate')))
