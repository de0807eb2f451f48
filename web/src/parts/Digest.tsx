import { Box, ButtonBase, Tooltip } from '@mui/material'
import { mono } from '../theme'
import { useCopy } from './Copy'

// Eight steps from dark blue over pale to dark ochre: told apart by lightness and
// by blue against yellow, which eyes without red–green vision see as well.
const palette = ['#16305F', '#3F6FB5', '#86AEDD', '#D3E2F2', '#FBF0C4', '#E9C04F', '#B27F1E', '#6A4408']

// cells returns eight colours that a digest's first bytes decide.
export function cells(digest: string): string[] {
  const hex = digest.slice(digest.indexOf(':') + 1)
  return Array.from({ length: 8 }, (_, i) => palette[parseInt(hex.slice(2 * i, 2 * i + 2) || '0', 16) % palette.length]!)
}

export const shorten = (digest: string) => digest.slice(digest.indexOf(':') + 1, digest.indexOf(':') + 13)

function Strip({ digest }: { digest: string }) {
  return (
    <Box component="span" aria-hidden sx={{ display: 'inline-flex', border: 1, borderColor: 'divider', borderRadius: '2px', overflow: 'hidden', ml: 1 }}>
      {cells(digest).map((colour, i) => (
        <Box key={i} component="span" sx={{ width: 6, height: 12, bgcolor: colour }} />
      ))}
    </Box>
  )
}

// Digest shows a digest short, with a strip that lets eyes tell two apart; a
// click copies the whole.
export function Digest({ digest, tabIndex }: { digest: string; tabIndex?: number }) {
  const { copied, copy } = useCopy()
  return (
    <Tooltip title={copied ? 'Copied' : <Box sx={{ fontFamily: mono, overflowWrap: 'anywhere' }}>{digest}</Box>} slotProps={{ tooltip: { sx: { maxWidth: 620 } } }}>
      <ButtonBase
        tabIndex={tabIndex}
        aria-label={`${shorten(digest)}, copy ${digest}`}
        onClick={(e) => {
          e.stopPropagation()
          e.preventDefault()
          void copy(digest)
        }}
        sx={{ fontFamily: mono, fontSize: '0.8125rem', borderRadius: 0.5, px: 0.5, mx: -0.5, py: 0.25, whiteSpace: 'nowrap', '&:hover': { bgcolor: 'action.hover' } }}
      >
        <span>{copied ? 'copied      ' : shorten(digest)}</span>
        <Strip digest={digest} />
      </ButtonBase>
    </Tooltip>
  )
}
