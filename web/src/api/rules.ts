import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query'
import { nothing, useChange } from './asking'
import { client, type Schemas, take } from './client'

export type RuleList = Schemas['RuleList']
export type RulePreview = Schemas['RulePreview']

// At is where a list of rules stands: at a place, under a name, or with neither at the
// registry.
export interface At {
  place?: string
  list?: string
}

// Kind is which rules a list has.
export type Kind = 'immutability' | 'retention'

export const useRules = (at: At, kind: Kind = 'immutability') =>
  useQuery({ queryKey: ['rules', kind, at], queryFn: () => take(client.GET('/api/v1/rules', { params: { query: { ...at, kind } } })), placeholderData: keepPreviousData, retry: false })

export const useRuleLists = (enabled: boolean, kind: Kind = 'immutability') =>
  useQuery({ queryKey: ['rule-lists', kind], queryFn: () => take(client.GET('/api/v1/rule-lists', { params: { query: { kind } } })), enabled })

export const useSetRules = (at: At, kind: Kind = 'immutability') => useChange((body: Schemas['SetRules']) => nothing(client.PUT('/api/v1/rules', { params: { query: { ...at, kind } }, body })))

export const useRemoveRules = (at: At, kind: Kind = 'immutability') =>
  useChange((reason: string) => nothing(client.DELETE('/api/v1/rules', { params: { query: { ...at, kind, reason } } })))

// useTryRules asks what a list would do; nothing is changed by it.
export const useTryRules = (at: At) =>
  useMutation({ mutationFn: (body: Schemas['TryRules']) => take(client.POST('/api/v1/rules/preview', { params: { query: at }, body })) })
