import { Box, Typography, useTheme } from '@mui/material'
import { BarChart } from '@mui/x-charts/BarChart'
import type { Schemas } from '../api/client'
import { sizeSteps, sizeText } from '../parts/Amounts'
import { spanText } from './words'

type Sample = Schemas['FlowSample']

// slots is how many bars a day has: a quarter of an hour each.
const [slots, slot] = [96, 15 * 60_000]

// gathered sums samples by slots of time, up to now: the worst lag, and all that moved.
function gathered(samples: Sample[]): { at: Date; lag: number; bytes: number }[] {
  const last = Math.floor(Date.now() / slot)
  const all = Array.from({ length: slots }, (_, i) => ({ at: new Date((last - slots + 1 + i) * slot), lag: 0, bytes: 0 }))
  for (const s of samples) {
    const one = all[Math.floor(new Date(s.at).getTime() / slot) - last + slots - 1]
    if (one) {
      one.lag = Math.max(one.lag, s.lag)
      one.bytes += s.bytes
    }
  }
  return all
}

const clock = (d: Date) => d.toLocaleTimeString('en', { hour: '2-digit', minute: '2-digit', hour12: false })

// FlowChart draws how far behind a rule was, and how much it copied.
export default function FlowChart({ samples }: { samples: Sample[] }) {
  const palette = useTheme().vars!.palette
  const dataset = gathered(samples)
  const times = [{ dataKey: 'at', scaleType: 'band' as const, valueFormatter: clock, height: 26, tickInterval: (_: unknown, i: number) => i % 16 === 7 }]
  const margin = { top: 6, right: 8, bottom: 0, left: 0 }
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 2 }}>
      <Box role="img" aria-label={`Lag in the last day, at most ${spanText(Math.max(0, ...samples.map((s) => s.lag)))}`}>
        <Typography variant="body2" color="textSecondary">Lag</Typography>
        <BarChart
          height={150} skipAnimation hideLegend margin={margin} dataset={dataset} xAxis={times} yAxis={[{ width: 56, min: 0, tickNumber: 3, valueFormatter: (n: number) => spanText(Math.round(n)) }]}
          series={[{ dataKey: 'lag', label: 'lag', color: palette.warning.main, valueFormatter: (n: number | null) => spanText(n ?? 0) }]}
        />
      </Box>
      <Box role="img" aria-label={`Copied in the last day: ${sizeText(samples.reduce((n, s) => n + s.bytes, 0))}`}>
        <Typography variant="body2" color="textSecondary">Copied in a quarter of an hour</Typography>
        <BarChart
          height={150} skipAnimation hideLegend margin={margin} dataset={dataset} xAxis={times}
          yAxis={[{ width: 62, min: 0, tickInterval: sizeSteps(Math.max(...dataset.map((d) => d.bytes))), valueFormatter: (n: number) => sizeText(n) }]}
          series={[{ dataKey: 'bytes', label: 'copied', color: palette.primary.main, valueFormatter: (n: number | null) => sizeText(n ?? 0) }]}
        />
      </Box>
    </Box>
  )
}
