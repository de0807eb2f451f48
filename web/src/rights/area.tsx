import { lazy } from 'react'
import { Navigate } from 'react-router'
import type { Area } from '../app/area'

const MePage = lazy(() => import('./MePage').then((m) => ({ default: m.MePage })))
const AccountsPage = lazy(() => import('./AccountsPage').then((m) => ({ default: m.AccountsPage })))
const GroupsPage = lazy(() => import('./GroupsPage').then((m) => ({ default: m.GroupsPage })))
const RegistryPage = lazy(() => import('./RegistryPage').then((m) => ({ default: m.RegistryPage })))
const ActivityPage = lazy(() => import('./ActivityPage').then((m) => ({ default: m.ActivityPage })))

export const rights: Area = {
  pages: [
    { path: '/me', element: <MePage /> },
    { path: '/sign-in', element: <Navigate to="/" replace /> },
    { path: '/access/accounts', element: <AccountsPage /> },
    { path: '/access/groups', element: <GroupsPage /> },
    { path: '/access/registry', element: <RegistryPage /> },
  ],
  rail: {
    order: 2, to: '/access', name: 'Access',
    here: (at) => at.startsWith('/access') || at.startsWith('/n/'),
    shown: (me) => me.account !== undefined,
  },
}

export const audit: Area = {
  pages: [{ path: '/activity', element: <ActivityPage /> }],
  rail: {
    order: 3, to: '/activity', name: 'Activity',
    here: (at) => at === '/activity',
    shown: (me) => me.account !== undefined && (me.reads_audit || me.roles.some((r) => r.role === 'owner')),
  },
}
