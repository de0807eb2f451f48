import { lazy } from 'react'
import type { Area } from '../app/area'

const ServicePage = lazy(() => import('./ServicePage').then((m) => ({ default: m.ServicePage })))

export const service: Area = {
  pages: [{ path: '/service', element: <ServicePage /> }],
  rail: {
    order: 8, to: '/service', name: 'Service',
    here: (at) => at === '/service',
    shown: (me) => me.account !== undefined && (me.admin || me.roles.some((r) => r.place === '')),
  },
}
