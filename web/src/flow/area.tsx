import { lazy } from 'react'
import type { Area } from '../app/area'

const FlowPage = lazy(() => import('./FlowPage').then((m) => ({ default: m.FlowPage })))
const PeerPage = lazy(() => import('./PeerPage').then((m) => ({ default: m.PeerPage })))

export const flow: Area = {
  pages: [{ path: '/flow', element: <FlowPage /> }, { path: '/peer/:name', element: <PeerPage /> }],
  rail: {
    order: 7, to: '/flow', name: 'Flow',
    here: (at) => at === '/flow' || at.startsWith('/peer/'),
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.place === '')),
  },
}
