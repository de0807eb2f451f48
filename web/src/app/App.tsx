import { Box } from '@mui/material'
import { lazy, Suspense, useState } from 'react'
import { Route, Routes, useLocation } from 'react-router'
import { useService } from '../api/service'
import { useMe } from '../api/session'
import { Trouble, Waiting } from '../parts/States'
import { areas } from './areas'
import { UndoBar } from '../parts/Undo'
import { Fence } from './Fence'
import { Rail } from './Rail'
import { TopBar } from './TopBar'
import { NoPlace } from './NoPlace'

const SignIn = lazy(() => import('../rights/SignIn').then((m) => ({ default: m.SignIn })))

const lookKey = 'warthesis-look'

export function App() {
  const me = useMe()
  const service = useService()
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
        {service.data?.trial && (
          <Box role="note" sx={{ px: 3, py: 1, bgcolor: 'warning.main', color: 'warning.contrastText', fontWeight: 600 }}>
            This is a trial: anybody on this machine may do everything here, without a login. Nothing that must last belongs in it.
          </Box>
        )}
        <Fence key={pathname}>
          <Suspense fallback={<Waiting />}>
            {me.isPending && <Waiting />}
            {me.error && <Trouble asked="Asking who you are" error={me.error} again={() => void me.refetch()} />}
            {mustSignIn && <SignIn onLook={pathname === '/me' ? undefined : look} />}
            {me.data && !mustSignIn && <Routes>
              {areas.flatMap((a) => a.pages).map((p) => <Route key={p.path} {...p} />)}
              <Route path="*" element={<NoPlace />} />
            </Routes>}
          </Suspense>
        </Fence>
        <UndoBar />
      </Box>
    </Box>
  )
}
