import { Box, ButtonBase, Link, Popover, Typography } from '@mui/material'
import { type ReactNode, useState } from 'react'
import { Link as Route } from 'react-router'

// Why is a small word that opens the reason of a verdict in a sentence, with a way to what
// decided it.
export function Why({ of, children, to, leads, tabIndex }: { of: string; children: ReactNode; to?: string; leads?: string; tabIndex?: number }) {
  const [at, setAt] = useState<HTMLElement>()
  return (
    <>
      <ButtonBase
        tabIndex={tabIndex} aria-label={`Why: ${of}`} aria-haspopup="dialog"
        onClick={(e) => {
          e.stopPropagation()
          setAt(e.currentTarget)
        }}
        sx={{ color: 'primary.main', font: 'inherit', fontSize: '0.8125rem', textDecoration: 'underline', borderRadius: 0.5, px: 0.5 }}
      >
        why
      </ButtonBase>
      <Popover open={at !== undefined} anchorEl={at ?? null} onClose={() => setAt(undefined)} onClick={(e) => e.stopPropagation()} anchorOrigin={{ vertical: 'bottom', horizontal: 'left' }}>
        <Box role="dialog" aria-label={`Why ${of}`} sx={{ p: 2, maxWidth: 440 }}>
          <Typography sx={{ overflowWrap: 'anywhere' }}>{children}</Typography>
          {to && (
            <Link component={Route} to={to} sx={{ display: 'inline-block', mt: 1 }}>
              {leads}
            </Link>
          )}
        </Box>
      </Popover>
    </>
  )
}
