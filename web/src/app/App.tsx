import { Box } from '@mui/material'
import { lazy, Suspense } from 'react'
import { Route, Routes, useLocation, useParams } from 'react-router'
import { readPlace } from '../api/addresses'
import { RepositoriesPage } from '../images/RepositoriesPage'
import { RepositoryPage } from '../images/RepositoryPage'
import { Waiting } from '../parts/States'
import { Fence } from './Fence'
import { Rail } from './Rail'
import { TopBar } from './TopBar'
import { NoPlace } from './NoPlace'

const ImagePage = lazy(() => import('../images/ImagePage').then((m) => ({ default: m.ImagePage })))
const FindPage = lazy(() => import('../find/FindPage').then((m) => ({ default: m.FindPage })))

export function App() {
  return (
    <Box sx={{ display: 'grid', gridTemplate: '56px minmax(0, 1fr) / 168px minmax(0, 1fr)', height: '100vh', minWidth: 900 }}>
      <Rail />
      <TopBar />
      <Box component="main" id="content" tabIndex={-1} sx={{ overflow: 'auto', outline: 'none' }}>
        <Fence key={useLocation().pathname}>
          <Suspense fallback={<Waiting />}>
            <Routes>
              <Route path="/" element={<RepositoriesPage />} />
              <Route path="/r/*" element={<RepositoryOrImage />} />
              <Route path="/find" element={<FindPage />} />
              <Route path="*" element={<NoPlace />} />
            </Routes>
          </Suspense>
        </Fence>
      </Box>
    </Box>
  )
}

function RepositoryOrImage() {
  const place = readPlace(useParams()['*'] ?? '')
  if (place.reference !== '') return <ImagePage key={`${place.repository}@${place.reference}`} {...place} />
  return <RepositoryPage key={place.repository} repository={place.repository} />
}
