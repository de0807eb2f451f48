import { lazy } from 'react'
import type { Area } from '../app/area'

const FlowPage = lazy(() => import('./FlowPage').then((m) => ({ default: m.FlowPage })))
const PeerPage = lazy(() => import('./PeerPage').then((m) => ({ default: m.PeerPage })))
const RulePage = lazy(() => import('./RulePage').then((m) => ({ default: m.RulePage })))

export const flow: Area = {
  pages: [{ path: '/flow', element: <FlowPage /> }, { path: '/peer/:name', element: <PeerPage /> }, { path: '/replication/:name', element: <RulePage /> }],
  rail: {
    order: 7, to: '/flow', name: 'Flow',
    here: (at) => at === '/flow' || at.startsWith('/peer/') || at.startsWith('/replication/'),
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.place === '')),
  },
}
