import { Box, Typography } from '@mui/material'
import { type Sum } from '../api/runs'
import { Size } from '../parts/Amounts'

const kinds: Record<string, [string, string]> = {
  manifest: ['image', 'images'], tag: ['tag', 'tags'], holding: ['holding of a blob', 'holdings of blobs'], repository: ['repository', 'repositories'],
  namespace: ['namespace', 'namespaces'], blob: ['blob', 'blobs'], stray: ['unrecorded file', 'unrecorded files'], leftover: ['leftover of an upload', 'leftovers of uploads'],
}

export const kindName = (kind: string) => kinds[kind]?.[0] ?? kind

// Sums says how much goes or stays, and why: a line for each kind and reason.
export function Sums({ title, sums }: { title: string; sums: Sum[] }) {
  if (sums.length === 0) return null
  return (
    <Box sx={{ mt: 1 }}>
      <Typography variant="body2" color="textSecondary">{title}</Typography>
      <Box component="ul" aria-label={title} sx={{ m: 0, p: 0, listStyle: 'none', display: 'grid', gridTemplateColumns: 'max-content max-content max-content minmax(0, 1fr)', columnGap: 2 }}>
        {sums.map((s) => (
          <Box component="li" key={s.kind + s.why} sx={{ display: 'contents' }}>
            <Box component="span" sx={{ textAlign: 'right' }}>{s.count.toLocaleString('en')}</Box>
            <span>{kinds[s.kind]?.[s.count === 1 ? 0 : 1] ?? s.kind}</span>
            <Box component="span" sx={{ textAlign: 'right' }}>{s.bytes ? <Size bytes={s.bytes} /> : ''}</Box>
            <Typography component="span" color="textSecondary">{s.says}</Typography>
          </Box>
        ))}
      </Box>
    </Box>
  )
}
