import { useQuery } from '@tanstack/react-query'
import { nothing, useChange, useGoing } from './asking'
import { client, type Schemas, take } from './client'

export type Arrival = Schemas['Arrival']
export type CopiedImage = Schemas['CopiedImage']
export type Import = Schemas['Import']
export type ImportReport = Schemas['ImportReport']
export type ImportedRepository = Schemas['ImportedRepository']
export type ImportDiffers = Schemas['ImportDiffers']

// What is under way is asked for often, and else seldom.
const [often, seldom] = [1_500, 10_000]
const goes = (a: Arrival | undefined) => a?.state === 'going'
export const isRunning = (i: Import | undefined) => i?.state === 'waiting' || i?.state === 'going'

export const useArrivals = () =>
  useQuery({
    queryKey: ['arrivals'], queryFn: () => take(client.GET('/api/v1/arrivals')), retry: false,
    refetchInterval: (query) => (query.state.data?.arrivals.some(goes) ? often : seldom),
  })

export const useArrival = (id: number) =>
  useQuery({
    queryKey: ['arrival', id], queryFn: () => take(client.GET('/api/v1/arrivals/{id}', { params: { path: { id } } })), retry: false,
    refetchInterval: (query) => (goes(query.state.data) ? often : false),
  })

export const useStopArrival = () => useChange((id: number) => nothing(client.DELETE('/api/v1/arrivals/{id}', { params: { path: { id } } })))

export const useImports = () =>
  useQuery({
    queryKey: ['imports'], queryFn: () => take(client.GET('/api/v1/imports')), retry: false,
    refetchInterval: (query) => (query.state.data?.imports.some(isRunning) ? often : seldom),
  })

export const useImport = (name: string) =>
  useQuery({
    queryKey: ['import', name], queryFn: () => take(client.GET('/api/v1/imports/{name}', { params: { path: { name } } })), retry: false,
    refetchInterval: (query) => (isRunning(query.state.data) ? often : false),
  })

export const useMakeImport = () => useChange((body: Schemas['MakeImport']) => take(client.POST('/api/v1/imports', { body })))
export const useRunImport = (name: string) =>
  useChange((preview: boolean) => take(client.POST('/api/v1/imports/{name}/run', { params: { path: { name } }, body: { preview } })))
export const useRemoveImport = () => useGoing((name: string) => nothing(client.DELETE('/api/v1/imports/{name}', { params: { path: { name } } })))
