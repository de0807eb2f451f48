import { Box, Button, Typography } from '@mui/material'
import { useMemo, useState } from 'react'
import { useCopy } from '../parts/Copy'
import { mono } from '../theme'

// RawDocument shows a manifest as it is stored; indented only to be read.
export function RawDocument({ raw, mediaType }: { raw: string; mediaType: string }) {
  const [asStored, setAsStored] = useState(true)
  const { copied, copy } = useCopy()
  const indented = useMemo(() => indent(raw), [raw])
  const differs = indented !== raw
  return (
    <>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, mb: 1 }}>
        <Typography variant="body2" color="textSecondary" sx={{ flex: 1 }}>
          {mediaType} · {new TextEncoder().encode(raw).length.toLocaleString('en')} bytes{asStored ? ', as stored' : ', indented to be read'}
        </Typography>
        {differs && (
          <Button size="small" onClick={() => setAsStored(!asStored)}>
            {asStored ? 'Indent' : 'As stored'}
          </Button>
        )}
        <Button size="small" variant="outlined" onClick={() => void copy(raw)} sx={{ minWidth: 76 }}>
          {copied ? 'Copied' : 'Copy'}
        </Button>
      </Box>
      <Box
        component="pre"
        tabIndex={0}
        aria-label="Manifest"
        sx={{ m: 0, p: 1.5, maxHeight: 520, overflow: 'auto', fontFamily: mono, fontSize: '0.8125rem', bgcolor: 'background.default', border: 1, borderColor: 'divider', borderRadius: 1, whiteSpace: 'pre-wrap', overflowWrap: 'anywhere' }}
      >
        {asStored ? raw : indented}
      </Box>
    </>
  )
}

function indent(raw: string): string {
  try {
    return JSON.stringify(JSON.parse(raw), null, 2)
  } catch {
    return raw
  }
}
