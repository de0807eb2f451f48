import { Box, Link, Typography } from '@mui/material'
import { Link as Route, useLocation } from 'react-router'
import { useService } from '../api/service'
import { useMe } from '../api/session'
import { areas } from './areas'

const places = areas.flatMap((a) => (a.rail ? [a.rail] : [])).sort((a, b) => a.order - b.order)

export function Rail() {
  const { pathname } = useLocation()
  const service = useService()
  const me = useMe()
  const shown = places.filter((p) => !p.shown || (me.data && p.shown(me.data)))
  return (
    <Box
      component="nav"
      aria-label="Places"
      sx={{ gridRow: '1 / 3', borderRight: 1, borderColor: 'divider', display: 'flex', flexDirection: 'column' }}
    >
      <Link href="#content" sx={{ position: 'absolute', left: -999, '&:focus': { left: 8, top: 8, zIndex: 10, bgcolor: 'background.paper', p: 1 } }}>
        Go to the content
      </Link>
      <Link component={Route} to="/" color="textPrimary" underline="none" sx={{ height: 56, px: 2.5, display: 'flex', alignItems: 'center', gap: 1 }}>
        <Box component="img" src="/icon.svg" alt="" sx={{ width: 20, height: 20 }} />
        <Typography component="span" sx={{ fontWeight: 600, letterSpacing: '0.01em' }}>
          Warthesis
        </Typography>
      </Link>
      <Box component="ul" sx={{ listStyle: 'none', m: 0, p: 0, flex: 1 }}>
        {shown.map((p) => (
          <li key={p.to}>
            <Link
              component={Route}
              to={p.to}
              aria-current={p.here(pathname) ? 'page' : undefined}
              underline="none"
              sx={{
                display: 'block', px: 2.5, py: 1, color: 'text.primary', borderLeft: 3, borderColor: 'transparent',
                '&[aria-current]': { borderColor: 'primary.main', fontWeight: 600, bgcolor: 'background.paper' },
                '&:hover': { bgcolor: 'background.paper' },
              }}
            >
              {p.name}
            </Link>
          </li>
        ))}
      </Box>
      <Box sx={{ px: 2.5, py: 2, borderTop: 1, borderColor: 'divider' }}>
        {me.data && (
          <Link component={Route} to={me.data.account ? '/me' : '/sign-in'} color="textPrimary" aria-current={pathname === '/me' ? 'page' : undefined} sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
            {me.data.account ?? 'Sign in'}
          </Link>
        )}
        <Typography variant="body2" color="textSecondary" sx={{ overflowWrap: 'anywhere' }}>
          {service.data ? service.data.address : ' '}
        </Typography>
      </Box>
    </Box>
  )
}
