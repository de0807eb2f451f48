import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Me = Schemas['Me']

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => take(client.GET('/api/v1/me')) })

export const useSignIn = () =>
  useChange((body: Schemas['SignIn']) => take(client.POST('/api/v1/session', { body })))

export const useSignOut = () => useChange(() => nothing(client.DELETE('/api/v1/session')))
