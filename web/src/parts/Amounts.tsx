import { Box, Tooltip } from '@mui/material'
import { useEffect, useState } from 'react'

const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB']

// sizeText writes bytes in binary units with three digits.
export function sizeText(bytes: number): string {
  let unit = 0
  let n = bytes
  while (n >= 999.5 && unit < units.length - 1) {
    n /= 1024
    unit++
  }
  const digits = unit === 0 || n >= 99.95 ? 0 : n >= 9.995 ? 1 : 2
  return `${n.toFixed(digits)} ${units[unit]}`
}

// sizeSteps are a few round amounts of bytes up to a most.
export function sizeSteps(most: number): number[] {
  const step = 2 ** Math.ceil(Math.log2(Math.max(4, most) / 4))
  return Array.from({ length: Math.floor(most / step) + 1 }, (_, i) => i * step)
}

export function Size({ bytes }: { bytes: number }) {
  return <span title={`${bytes.toLocaleString('en')} bytes`}>{sizeText(bytes)}</span>
}

const spans: [Intl.RelativeTimeFormatUnit, number][] = [
  ['year', 365 * 86400],
  ['month', 30 * 86400],
  ['week', 7 * 86400],
  ['day', 86400],
  ['hour', 3600],
  ['minute', 60],
]

const words = new Intl.RelativeTimeFormat('en', { numeric: 'always' })

export function whenText(at: Date, now: Date): string {
  const seconds = (at.getTime() - now.getTime()) / 1000
  for (const [unit, length] of spans) {
    if (Math.abs(seconds) >= length) return words.format(Math.trunc(seconds / length), unit)
  }
  return 'just now'
}

// leftText says how long it is to a time, exactly enough to plan by.
export function leftText(until: Date, now: Date): string {
  const hours = (until.getTime() - now.getTime()) / 3_600_000
  const [n, unit] = hours >= 46 ? [Math.floor(hours / 24 + 0.1), 'day'] : hours >= 0.9 ? [Math.floor(hours + 0.1), 'hour'] : [Math.max(1, Math.round(hours * 60)), 'minute']
  return n === 1 ? `1 ${unit}` : `${n} ${unit}s`
}

// Left shows how long it is to a time, and the exact one on hover.
export function Left({ until }: { until: string }) {
  return <time dateTime={until} title={until.replace(/\.\d+Z$/, 'Z')}>{leftText(new Date(until), new Date())}</time>
}

// When shows a time as people say it, and the exact one on hover and focus.
export function When({ at }: { at?: string | undefined }) {
  const [now, setNow] = useState(() => new Date())
  useEffect(() => {
    const timer = setInterval(() => setNow(new Date()), 30_000)
    return () => clearInterval(timer)
  }, [])
  if (!at) return <Box component="span" sx={{ color: 'text.secondary' }}>never</Box>
  const exact = at.replace(/\.\d+Z$/, 'Z')
  return (
    <Tooltip title={exact}>
      <time dateTime={at} title={exact}>{whenText(new Date(at), now)}</time>
    </Tooltip>
  )
}
