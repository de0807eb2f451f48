import { lazy } from 'react'
import { useParams } from 'react-router'
import type { Area } from '../app/area'
import { RepositoriesPage } from './RepositoriesPage'

const NamespacesPage = lazy(() => import('./NamespacesPage').then((m) => ({ default: m.NamespacesPage })))
const NamespacePage = lazy(() => import('./NamespacePage').then((m) => ({ default: m.NamespacePage })))

function OneNamespace() {
  const { name = '' } = useParams()
  return <NamespacePage key={name} name={name} />
}

export const names: Area = {
  pages: [
    { path: '/', element: <RepositoriesPage /> },
    { path: '/access', element: <NamespacesPage /> },
    { path: '/n/:name', element: <OneNamespace /> },
  ],
  rail: { order: 1, to: '/', name: 'Images', here: (at) => at === '/' || at.startsWith('/r/') },
}
