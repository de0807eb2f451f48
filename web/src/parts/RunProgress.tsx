import { Box, LinearProgress, Typography } from '@mui/material'
import { type Run } from '../api/runs'
import { sizeText } from './Amounts'

const amount = (n: number, unit: string | undefined) => (unit === 'bytes' ? sizeText(n) : `${n.toLocaleString('en')} ${unit ?? ''}`)

// progressText says how far a run is, in its own unit.
export function progressText(run: Run): string {
  if (!run.unit) return run.step ?? ''
  const done = run.total ? `${amount(run.done, run.unit).replace(` ${run.unit}`, '')} of ${amount(run.total, run.unit)}` : amount(run.done, run.unit)
  return `${run.step ? `${run.step}, ` : ''}${done}`
}

// RunProgress shows how far a run that goes is.
export function RunProgress({ run }: { run: Run }) {
  return (
    <Box role="status" sx={{ minWidth: 0 }}>
      <Typography variant="body2">{run.state === 'waiting' ? 'waits for its turn' : progressText(run)}</Typography>
      <LinearProgress
        aria-label={`Progress of run ${run.id}`} sx={{ mt: 0.5, borderRadius: 1 }}
        {...(run.total ? { variant: 'determinate' as const, value: Math.min(100, (100 * run.done) / run.total) } : {})}
      />
    </Box>
  )
}
