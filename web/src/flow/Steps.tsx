import { Box, Typography } from '@mui/material'
import type { PeerStep } from '../api/flow'

// Steps show how far a test of a peer came, and what stopped it.
export function Steps({ steps }: { steps: PeerStep[] }) {
  return (
    <Box component="ol" aria-label="Steps of the test" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {steps.map((s) => (
        <Box key={s.step} component="li" sx={{ display: 'grid', gridTemplateColumns: '20px 70px minmax(0, 1fr)', columnGap: 1, py: 0.375 }}>
          <Typography component="span" color={s.well ? 'primary' : 'error'}>{s.well ? '✓' : '✗'}</Typography>
          <Typography component="span" sx={{ fontWeight: 600 }}>{s.step}</Typography>
          <Typography component="span" color={s.well ? 'textPrimary' : 'error'} sx={{ overflowWrap: 'anywhere' }}>{s.says}</Typography>
        </Box>
      ))}
    </Box>
  )
}
