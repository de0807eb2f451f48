import { lazy } from 'react'
import { seesAll } from '../api/session'
import type { Area } from '../app/area'
import { OfRegistry } from '../parts/OfRegistry'

const ServicePage = lazy(() => import('./ServicePage').then((m) => ({ default: m.ServicePage })))

export const service: Area = {
  pages: [{ path: '/service', element: <OfRegistry title="Service"><ServicePage /></OfRegistry> }],
  rail: {
    order: 8, to: '/service', name: 'Service',
    here: (at) => at === '/service',
    shown: (me) => me.account !== undefined && seesAll(me),
  },
}
