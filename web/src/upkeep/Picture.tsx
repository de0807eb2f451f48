import { Box, Tooltip, Typography } from '@mui/material'
import { Link as Route } from 'react-router'
import { sizeText } from '../parts/Amounts'
import { squares } from './squares'

// Part is one area of the picture.
export interface Part {
  key: string
  name: string
  own: number
  seen: number
  // to is the place that it leads into, where there is one.
  to?: string
  about?: string
}

const tones = ['#2F5D9B', '#8A6514', '#43618A', '#7A5C1C', '#3D6FB0', '#6B5730', '#27548E', '#85671F']

const [wide, high] = [1160, 300]

// most is how many areas are drawn one by one.
const most = 60

// Picture shows what holds the space: an area for each thing, as large as what it alone
// holds. One walks into it by a click, or with the keys.
export function Picture({ label, parts }: { label: string; parts: Part[] }) {
  const sorted = parts.filter((p) => p.own > 0).sort((a, b) => b.own - a.own)
  const rest = sorted.slice(most)
  const drawn = rest.length === 0 ? sorted : [...sorted.slice(0, most), { key: 'rest', name: `${rest.length} more`, own: rest.reduce((sum, p) => sum + p.own, 0), seen: 0 }].sort((a, b) => b.own - a.own)
  if (drawn.length === 0) return <Typography color="textSecondary">Nothing here is held by this place alone; all of it is shared.</Typography>
  return (
    <Box role="group" aria-label={label} sx={{ position: 'relative', width: '100%', aspectRatio: `${wide} / ${high}` }}>
      {squares(drawn, (p) => p.own, wide, high).map((a, i) => {
        // It begins with what is drawn, so that who says that reaches it.
        const said = `${a.of.name} ${sizeText(a.of.own)} of its own${a.of.seen > 0 ? `, ${sizeText(a.of.seen)} as seen` : ''}${a.of.about ? `, ${a.of.about}` : ''}`
        const fits = a.width > 70 && a.height > 22
        return (
          <Tooltip key={a.of.key} title={said}>
            <Box
              {...(a.of.to ? { component: Route, to: a.of.to } : { tabIndex: 0, role: 'img' })} aria-label={said}
              sx={{
                position: 'absolute', left: `${(100 * a.x) / wide}%`, top: `${(100 * a.y) / high}%`, width: `${(100 * a.width) / wide}%`, height: `${(100 * a.height) / high}%`,
                border: 1, borderColor: 'background.paper', bgcolor: tones[i % tones.length], color: '#fff', overflow: 'hidden', p: fits ? 0.75 : 0, textDecoration: 'none', borderRadius: 0.5,
                '&:hover': { filter: a.of.to ? 'brightness(1.15)' : 'none' }, '&:focus-visible': { zIndex: 1 },
              }}
            >
              {fits && <Typography variant="body2" noWrap sx={{ fontWeight: 600, color: '#fff' }}>{a.of.name}</Typography>}{' '}
              {fits && a.height > 44 && <Typography variant="body2" noWrap sx={{ color: '#fff' }}>{sizeText(a.of.own)}</Typography>}
            </Box>
          </Tooltip>
        )
      })}
    </Box>
  )
}
