import { Typography } from '@mui/material'
import type { Role } from '../api/roles'
import { When } from '../parts/Amounts'

// roleColumns show a role, and whether it is used.
export const roleColumns = [
  { title: 'Where', cell: (r: Role) => r.place || 'the registry' },
  { title: 'Role', cell: (r: Role) => (r.admin ? 'registry admin' : r.role) },
  { title: 'Given', cell: (r: Role) => (r.admin ? '' : <When at={r.granted_at} />) },
  {
    title: 'Used',
    cell: (r: Role) => r.admin ? '' : (
      <>
        <When at={r.used_at} />
        {r.unused && <Typography component="span" variant="body2" color="warning"> · not in 90 days, so it could be narrower</Typography>}
      </>
    ),
  },
]
