import { Box, Typography } from '@mui/material'
import { type ReactNode, useEffect } from 'react'

// Page is one place: a title, what belongs beside it, and the content below.
export function Page({ title, over, beside, do: can, fill, children }: {
  title: string
  over?: ReactNode
  beside?: ReactNode
  // do is what can be done here, at the right.
  do?: ReactNode
  // fill lets the content take the height that is left and scroll by itself.
  fill?: boolean
  children: ReactNode
}) {
  useEffect(() => {
    document.title = `${title} · Warthesis`
  }, [title])
  return (
    <Box sx={{ maxWidth: 1200, mx: 'auto', px: 3, pt: 2.5, pb: fill ? 2 : 6, ...(fill && { height: '100%', display: 'flex', flexDirection: 'column' }) }}>
      {over}
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 2, mb: 2, flexWrap: 'wrap' }}>
        <Typography variant="h1" sx={{ overflowWrap: 'anywhere' }}>
          {title}
        </Typography>
        {beside}
        {can && <Box sx={{ ml: 'auto', display: 'flex', gap: 1.5 }}>{can}</Box>}
      </Box>
      {children}
    </Box>
  )
}
