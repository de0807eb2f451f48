import { lazy } from 'react'
import type { Area } from '../app/area'

const FlowPage = lazy(() => import('./FlowPage').then((m) => ({ default: m.FlowPage })))
const PeerPage = lazy(() => import('./PeerPage').then((m) => ({ default: m.PeerPage })))
const RulePage = lazy(() => import('./RulePage').then((m) => ({ default: m.RulePage })))
const ArrivalPage = lazy(() => import('./ArrivalPage').then((m) => ({ default: m.ArrivalPage })))
const ImportPage = lazy(() => import('./ImportPage').then((m) => ({ default: m.ImportPage })))

export const flow: Area = {
  pages: [{ path: '/flow', element: <FlowPage /> }, { path: '/peer/:name', element: <PeerPage /> }, { path: '/replication/:name', element: <RulePage /> }, { path: '/carried/:id', element: <ArrivalPage /> }, { path: '/import/:name', element: <ImportPage /> }],
  rail: {
    order: 7, to: '/flow', name: 'Flow',
    here: (at) => at === '/flow' || at.startsWith('/peer/') || at.startsWith('/replication/') || at.startsWith('/carried/') || at.startsWith('/import/'),
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.place === '')),
  },
}
