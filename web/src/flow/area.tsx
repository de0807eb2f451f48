import { lazy } from 'react'
import { seesAll } from '../api/session'
import type { Area } from '../app/area'
import { OfRegistry } from '../parts/OfRegistry'

const FlowPage = lazy(() => import('./FlowPage').then((m) => ({ default: m.FlowPage })))
const PeerPage = lazy(() => import('./PeerPage').then((m) => ({ default: m.PeerPage })))
const RulePage = lazy(() => import('./RulePage').then((m) => ({ default: m.RulePage })))
const ArrivalPage = lazy(() => import('./ArrivalPage').then((m) => ({ default: m.ArrivalPage })))
const ImportPage = lazy(() => import('./ImportPage').then((m) => ({ default: m.ImportPage })))

export const flow: Area = {
  pages: [{ path: '/flow', element: <OfRegistry title="Flow"><FlowPage /></OfRegistry> }, { path: '/peer/:name', element: <OfRegistry title="Peer"><PeerPage /></OfRegistry> }, { path: '/replication/:name', element: <OfRegistry title="Replication"><RulePage /></OfRegistry> }, { path: '/carried/:id', element: <ArrivalPage /> }, { path: '/import/:name', element: <OfRegistry title="Import"><ImportPage /></OfRegistry> }],
  rail: {
    order: 7, to: '/flow', name: 'Flow',
    here: (at) => at === '/flow' || at.startsWith('/peer/') || at.startsWith('/replication/') || at.startsWith('/carried/') || at.startsWith('/import/'),
    shown: (me) => me.account !== undefined && seesAll(me),
  },
}
