import { Box, Button, Typography } from '@mui/material'
import { useSyncExternalStore } from 'react'
import { useUndo } from '../api/removals'
import { Said } from './Forms'
import { leftText } from './Amounts'

interface Removed {
  removal: number
  says: string
  until?: string
}

// What was removed last, by this window.
let last: Removed | undefined
const heard = new Set<() => void>()

function tell(removed: Removed | undefined) {
  last = removed
  heard.forEach((hear) => hear())
}

// sayRemoved shows the bar that says what went, and brings it back.
export const sayRemoved = (removed: Removed) => tell(removed)

const listen = (hear: () => void) => {
  heard.add(hear)
  return () => heard.delete(hear)
}

// UndoBar says what went by the last removal, until when it can come back, and has the
// button for that.
export function UndoBar() {
  const removed = useSyncExternalStore(listen, () => last)
  const undo = useUndo()
  if (!removed) return null
  return (
    <Box
      role="status" aria-label="Removed"
      sx={{ position: 'fixed', bottom: 16, left: 184, right: 16, mx: 'auto', maxWidth: 760, zIndex: 20, border: 1, borderColor: 'primary.main', borderRadius: 1, bgcolor: 'background.paper', px: 2, py: 1, display: 'flex', gap: 2, alignItems: 'center' }}
    >
      <Box sx={{ flex: 1, minWidth: 0 }}>
        <Typography sx={{ overflowWrap: 'anywhere' }}>
          {removed.says}
          {removed.until && ` It can come back for about ${leftText(new Date(removed.until), new Date())}.`}
        </Typography>
        <Said error={undo.error} />
      </Box>
      <Button size="small" variant="contained" disableElevation disabled={undo.isPending} onClick={() => undo.mutate({ id: removed.removal }, { onSuccess: () => tell(undefined) })}>
        Undo
      </Button>
      <Button size="small" color="inherit" onClick={() => { undo.reset(); tell(undefined) }}>
        Leave it
      </Button>
    </Box>
  )
}
