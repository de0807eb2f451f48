import { Box, Paper, Typography } from '@mui/material'
import type { Schemas } from '../api/client'
import { When } from './Amounts'

const shown = 10

// Damages says which parts of the records are damaged and what to do; it is nothing where they
// are sound.
export function Damages({ of: health }: { of: Schemas['RegistryHealth'] }) {
  const all = health.damages ?? []
  if (all.length === 0) return null
  return (
    <Paper role="alert" sx={{ px: 2, py: 1.5, mb: 2, borderColor: 'error.main' }}>
      <Typography color="error" sx={{ fontWeight: 600 }}>The records are damaged. While they are, no sweep and no retention deletes anything.</Typography>
      <Box component="ul" sx={{ my: 0.5, pl: 2.5 }}>
        {all.slice(0, shown).map((d) => (
          <li key={d.says}>
            {d.says}, found <When at={d.found_at} />
          </li>
        ))}
        {all.length > shown && <li>and {all.length - shown} more</li>}
      </Box>
      <Typography>{health.remedy}</Typography>
      {health.incomplete && <Typography color="textSecondary">Some figures below could not be read; they are shown as 0.</Typography>}
    </Paper>
  )
}
