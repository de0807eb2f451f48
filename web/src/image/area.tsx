import { lazy } from 'react'
import { useParams } from 'react-router'
import { readPlace } from '../api/addresses'
import type { Area } from '../app/area'
import { RepositoryPage } from './RepositoryPage'

const ImagePage = lazy(() => import('./ImagePage').then((m) => ({ default: m.ImagePage })))
const FindPage = lazy(() => import('./FindPage').then((m) => ({ default: m.FindPage })))

function RepositoryOrImage() {
  const place = readPlace(useParams()['*'] ?? '')
  if (place.reference !== '') return <ImagePage key={`${place.repository}@${place.reference}`} {...place} />
  return <RepositoryPage key={place.repository} repository={place.repository} />
}

export const image: Area = {
  pages: [
    { path: '/r/*', element: <RepositoryOrImage /> },
    { path: '/find', element: <FindPage /> },
  ],
}
