import { useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Group = Schemas['Group']

export const useGroups = (enabled = true) => useQuery({ queryKey: ['groups'], queryFn: () => take(client.GET('/api/v1/groups')), enabled })

export const useMakeGroup = () => useChange((body: Schemas['NewGroup']) => take(client.POST('/api/v1/groups', { body })))

export const useRemoveGroup = () => useChange((name: string) => nothing(client.DELETE('/api/v1/groups/{name}', { params: { path: { name } } })))

export interface Membership {
  group: string
  account: string
}

export const useJoinGroup = () =>
  useChange(({ group, account }: Membership) =>
    nothing(client.PUT('/api/v1/groups/{name}/members/{account}', { params: { path: { name: group, account } } })),
  )

export const useLeaveGroup = () =>
  useChange(({ group, account }: Membership) =>
    nothing(client.DELETE('/api/v1/groups/{name}/members/{account}', { params: { path: { name: group, account } } })),
  )
