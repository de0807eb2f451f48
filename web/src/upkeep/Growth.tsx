import { LineChart } from '@mui/x-charts/LineChart'
import { useTheme } from '@mui/material'
import type { Schemas } from '../api/client'
import { sizeSteps, sizeText } from '../parts/Amounts'

// Growth draws how much a place held, day by day.
export default function Growth({ samples }: { samples: Schemas['UsageSample'][] }) {
  const palette = useTheme().vars!.palette
  // Only registry roles are told what nothing else holds.
  const told = samples.some((s) => s.own !== undefined)
  const waits = samples.some((s) => s.waiting > 0)
  const common = { area: true, stack: 'all', curve: 'linear' as const, showMark: samples.length === 1, valueFormatter: (n: number | null) => sizeText(n ?? 0) }
  return (
    <LineChart
      height={190} skipAnimation hideLegend={false} margin={{ top: 4, right: 12, bottom: 0, left: 4 }}
      dataset={samples.map((s) => ({ day: new Date(s.day), own: s.own ?? 0, shared: s.seen - (s.own ?? 0), waiting: s.waiting }))}
      xAxis={[{ dataKey: 'day', scaleType: 'time', valueFormatter: (d: Date) => d.toLocaleDateString('en', { day: 'numeric', month: 'short' }), tickNumber: 8, height: 32, tickLabelInterval: () => true }]}
      yAxis={[{ width: 64, tickInterval: sizeSteps(Math.max(...samples.map((s) => s.seen + s.waiting))), valueFormatter: (n: number) => sizeText(n), min: 0 }]}
      series={[
        ...(told ? [{ dataKey: 'own' as const, label: 'its own', color: palette.primary.main, ...common }] : []),
        { dataKey: 'shared', label: told ? 'shared' : 'stored', color: told ? '#6E93C4' : palette.primary.main, ...common },
        ...(waits ? [{ dataKey: 'waiting' as const, label: 'waits for restore windows', color: palette.warning.main, ...common }] : []),
      ]}
    />
  )
}
