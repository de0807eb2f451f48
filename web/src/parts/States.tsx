import { Box, Button, Paper, Typography } from '@mui/material'
import type { ReactNode } from 'react'
import { Refusal } from '../api/client'
import { CommandLine } from './Commands'

export function Waiting() {
  return (
    <Typography role="status" color="textSecondary" sx={{ p: 3 }}>
      Loading …
    </Typography>
  )
}

// Empty says what would be here, and gives the command that brings it.
export function Empty({ children, command }: { children: ReactNode; command?: string }) {
  return (
    <Paper sx={{ p: 3 }}>
      <Typography sx={{ mb: command ? 1.5 : 0 }}>{children}</Typography>
      {command && <CommandLine command={command} />}
    </Paper>
  )
}

// Trouble says what was asked, what happened and what to do; the page stays usable.
export function Trouble({ asked, error, again }: { asked: string; error: Error; again?: () => void }) {
  const request = error instanceof Refusal ? error.request : ''
  return (
    <Paper role="alert" sx={{ p: 2.5, borderColor: 'error.main' }}>
      <Typography sx={{ fontWeight: 600 }} color="error">
        {asked} did not work
      </Typography>
      <Typography sx={{ my: 0.5 }}>{error.message}</Typography>
      {request && (
        <Typography variant="body2" color="textSecondary">
          Request {request}
        </Typography>
      )}
      {again && (
        <Box sx={{ mt: 1 }}>
          <Button size="small" variant="outlined" onClick={again}>
            Try again
          </Button>
        </Box>
      )}
    </Paper>
  )
}
