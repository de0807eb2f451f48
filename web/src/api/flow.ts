import { useInfiniteQuery, useMutation, useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type Peer = Schemas['Peer']
export type Follow = Schemas['Follow']
export type PeerStep = Schemas['PeerStep']

export const usePeers = () => useQuery({ queryKey: ['peers'], queryFn: () => take(client.GET('/api/v1/peers')), retry: false })
export const useFollows = () => useQuery({ queryKey: ['follows'], queryFn: () => take(client.GET('/api/v1/follows')), retry: false })

// useTryPeer tests a peer as it would be, and keeps nothing.
export const useTryPeer = () => useMutation({ mutationFn: (body: Schemas['MakePeer']) => take(client.POST('/api/v1/peers', { body: { ...body, try: true } })) })
export const useMakePeer = () => useChange((body: Schemas['MakePeer']) => take(client.POST('/api/v1/peers', { body })))
export const useTestPeer = () => useChange((name: string) => take(client.POST('/api/v1/peers/{name}/test', { params: { path: { name } }, body: {} })))
export const useRemovePeer = () => useChange((name: string) => nothing(client.DELETE('/api/v1/peers/{name}', { params: { path: { name } } })))
export const useSetFollow = () =>
  useChange(({ namespace, ...body }: Schemas['SetFollow'] & { namespace: string }) => take(client.PUT('/api/v1/follow', { params: { query: { namespace } }, body })))
export const useRemoveFollow = () => useChange((namespace: string) => nothing(client.DELETE('/api/v1/follow', { params: { query: { namespace } } })))

export const namesOf = (page: Schemas['PeerNames']) => page.names

// usePeerNames lists the repositories of a peer or, with one of them, its tags.
export const usePeerNames = (name: string, repository: string) =>
  useInfiniteQuery({
    queryKey: ['peer-names', name, repository],
    queryFn: ({ pageParam }) => {
      const after = pageParam || undefined
      return repository
        ? take(client.GET('/api/v1/peers/{name}/tags', { params: { path: { name }, query: { repository, after } } }))
        : take(client.GET('/api/v1/peers/{name}/repositories', { params: { path: { name }, query: { after } } }))
    },
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    retry: false,
  })

export const usePeerImage = (name: string, repository: string, reference: string) =>
  useQuery({
    queryKey: ['peer-image', name, repository, reference],
    queryFn: () => take(client.GET('/api/v1/peers/{name}/image', { params: { path: { name }, query: { repository, reference } } })),
    retry: false, staleTime: 60_000,
  })
