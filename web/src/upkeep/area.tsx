import { lazy } from 'react'
import type { Area } from '../app/area'

const RulesPage = lazy(() => import('./RulesPage').then((m) => ({ default: m.RulesPage })))
const RetentionPage = lazy(() => import('./RetentionPage').then((m) => ({ default: m.RetentionPage })))
const InUsePage = lazy(() => import('./InUsePage').then((m) => ({ default: m.InUsePage })))
const StoragePage = lazy(() => import('./StoragePage').then((m) => ({ default: m.StoragePage })))
const RemovedPage = lazy(() => import('./RemovedPage').then((m) => ({ default: m.RemovedPage })))

export const rules: Area = {
  pages: [{ path: '/rules', element: <RulesPage /> }, { path: '/retention', element: <RetentionPage /> }, { path: '/in-use', element: <InUsePage /> }],
  rail: {
    order: 4, to: '/rules', name: 'Rules',
    here: (at) => at === '/rules' || at === '/retention' || at === '/in-use',
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.role === 'owner')),
  },
}

export const removed: Area = {
  pages: [{ path: '/removed', element: <RemovedPage /> }],
  rail: {
    order: 5, to: '/removed', name: 'Removed',
    here: (at) => at === '/removed',
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.role === 'owner' || r.role === 'curator')),
  },
}

export const storage: Area = {
  pages: [{ path: '/storage', element: <StoragePage /> }],
  rail: {
    order: 6, to: '/storage', name: 'Storage',
    here: (at) => at === '/storage',
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.place === '' || r.role !== 'reader')),
  },
}
