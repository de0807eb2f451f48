import { Box, Link } from '@mui/material'
import { Link as Route } from 'react-router'
import { repositoryPlace } from '../api/addresses'

// Path says where one is, and leads back up.
export function Path({ repository, inside }: { repository: string; inside?: boolean }) {
  return (
    <Box component="nav" aria-label="Path" sx={{ fontSize: '0.8125rem', mb: 0.5, color: 'text.secondary' }}>
      <Link component={Route} to="/" color="inherit">
        Images
      </Link>
      {inside && (
        <>
          {' / '}
          <Link component={Route} to={repositoryPlace(repository)} color="inherit">
            {repository}
          </Link>
        </>
      )}
    </Box>
  )
}
