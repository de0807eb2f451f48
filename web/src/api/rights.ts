import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { client, type Schemas, take } from './client'

export type Me = Schemas['Me']
export type Role = Schemas['Role']
export type Token = Schemas['Token']
export type MadeToken = Schemas['MadeToken']
export type Namespace = Schemas['Namespace']
export type Account = Schemas['Account']
export type Group = Schemas['Group']
export type Line = Schemas['Line']

// nothing is what answers without a body are taken for.
const nothing = (asked: Promise<{ data?: unknown; error?: { detail?: string }; response: Response }>) =>
  take(asked.then((a) => ({ ...a, data: a.response.ok ? true : undefined })))

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => take(client.GET('/api/v1/me')) })

// useChange runs a change and asks all lists again.
export function useChange<In, Out = unknown>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient()
  return useMutation({ mutationFn: change, onSuccess: () => queries.invalidateQueries() })
}

export const useSignIn = () =>
  useChange((body: Schemas['SignIn']) => take(client.POST('/api/v1/session', { body })))

export const useSignOut = () => useChange(() => nothing(client.DELETE('/api/v1/session')))

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

const pageSize = 200

export const useNamespaces = (contains: string) =>
  useQuery({
    queryKey: ['namespaces', contains],
    queryFn: () => take(client.GET('/api/v1/namespaces', { params: { query: { contains, limit: 1000 } } })),
  })

export const useNamespace = (name: string) =>
  useQuery({ queryKey: ['namespace', name], queryFn: () => take(client.GET('/api/v1/namespaces/{name}', { params: { path: { name } } })) })

export const useChangeNamespace = (name: string) =>
  useChange((body: Schemas['PlaceChange']) => nothing(client.PATCH('/api/v1/namespaces/{name}', { params: { path: { name } }, body })))

export const useMakeNamespace = () => useChange((body: Schemas['NewPlace']) => nothing(client.POST('/api/v1/namespaces', { body })))

export const useRemoveNamespace = () =>
  useChange((name: string) => nothing(client.DELETE('/api/v1/namespaces/{name}', { params: { path: { name } } })))

export const useRestoreNamespace = () =>
  useChange((name: string) => nothing(client.POST('/api/v1/namespaces/{name}/restore', { params: { path: { name } } })))

export const useRoles = (place: string, enabled: boolean) =>
  useQuery({ queryKey: ['roles', place], queryFn: () => take(client.GET('/api/v1/roles', { params: { query: { place } } })), enabled })

export const useRolesOf = (name: string) =>
  useQuery({ queryKey: ['roles of', name], queryFn: () => take(client.GET('/api/v1/accounts/{name}/roles', { params: { path: { name } } })) })

export const useGiveRole = () => useChange((body: Schemas['NewRole']) => nothing(client.PUT('/api/v1/roles', { body })))

export const useTakeRole = () =>
  useChange((role: { place: string; account?: string; group?: string }) => nothing(client.DELETE('/api/v1/roles', { params: { query: role } })))

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

export interface AuditView {
  account: string
  namespace: string
  repository: string
  kind: string
  verdict: string
}

export const useAudit = (view: AuditView) =>
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
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  })
