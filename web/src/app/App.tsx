import { Box } from '@mui/material'
import { lazy, Suspense, useState } from 'react'
import { Navigate, Route, Routes, useLocation, useParams } from 'react-router'
import { readPlace } from '../api/addresses'
import { useMe } from '../api/rights'
import { RepositoriesPage } from '../images/RepositoriesPage'
import { RepositoryPage } from '../images/RepositoryPage'
import { Trouble, Waiting } from '../parts/States'
import { Fence } from './Fence'
import { Rail } from './Rail'
import { TopBar } from './TopBar'
import { NoPlace } from './NoPlace'

const ImagePage = lazy(() => import('../images/ImagePage').then((m) => ({ default: m.ImagePage })))
const MePage = lazy(() => import('../access/MePage').then((m) => ({ default: m.MePage })))
const NamespacesPage = lazy(() => import('../access/NamespacesPage').then((m) => ({ default: m.NamespacesPage })))
const NamespacePage = lazy(() => import('../access/NamespacePage').then((m) => ({ default: m.NamespacePage })))
const AccountsPage = lazy(() => import('../access/AccountsPage').then((m) => ({ default: m.AccountsPage })))
const GroupsPage = lazy(() => import('../access/GroupsPage').then((m) => ({ default: m.GroupsPage })))
const ActivityPage = lazy(() => import('../activity/ActivityPage').then((m) => ({ default: m.ActivityPage })))
const SignIn = lazy(() => import('../access/SignIn').then((m) => ({ default: m.SignIn })))
const FindPage = lazy(() => import('../find/FindPage').then((m) => ({ default: m.FindPage })))

const lookKey = 'warthesis-look'

export function App() {
  const me = useMe()
  const [looks, setLooks] = useState(() => sessionStorage.getItem(lookKey) !== null)
  const { pathname } = useLocation()
  const look = () => {
    sessionStorage.setItem(lookKey, 'yes')
    setLooks(true)
  }
  const nobody = me.data !== undefined && me.data.account === undefined
  const mustSignIn = nobody && (!looks || pathname === '/me' || pathname === '/sign-in')
  return (
    <Box sx={{ display: 'grid', gridTemplate: '56px minmax(0, 1fr) / 168px minmax(0, 1fr)', height: '100vh', minWidth: 900 }}>
      <Rail />
      <TopBar />
      <Box component="main" id="content" tabIndex={-1} sx={{ overflow: 'auto', outline: 'none' }}>
        <Fence key={pathname}>
          <Suspense fallback={<Waiting />}>
            {me.isPending && <Waiting />}
            {me.error && <Trouble asked="Asking who you are" error={me.error} again={() => void me.refetch()} />}
            {mustSignIn && <SignIn onLook={pathname === '/me' ? undefined : look} />}
            {me.data && !mustSignIn && <Routes>
              <Route path="/" element={<RepositoriesPage />} />
              <Route path="/r/*" element={<RepositoryOrImage />} />
              <Route path="/find" element={<FindPage />} />
              <Route path="/me" element={<MePage />} />
              <Route path="/sign-in" element={<Navigate to="/" replace />} />
              <Route path="/access" element={<NamespacesPage />} />
              <Route path="/access/accounts" element={<AccountsPage />} />
              <Route path="/access/groups" element={<GroupsPage />} />
              <Route path="/n/:name" element={<OneNamespace />} />
              <Route path="/activity" element={<ActivityPage />} />
              <Route path="*" element={<NoPlace />} />
            </Routes>}
          </Suspense>
        </Fence>
      </Box>
    </Box>
  )
}

function OneNamespace() {
  const { name = '' } = useParams()
  return <NamespacePage key={name} name={name} />
}

function RepositoryOrImage() {
  const place = readPlace(useParams()['*'] ?? '')
  if (place.reference !== '') return <ImagePage key={`${place.repository}@${place.reference}`} {...place} />
  return <RepositoryPage key={place.repository} repository={place.repository} />
}
