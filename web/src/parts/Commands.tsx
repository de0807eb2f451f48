import { Box, Button, Paper, Tab, Tabs, Typography } from '@mui/material'
import { type ReactNode, useState } from 'react'
import { mono } from '../theme'
import { useCopy } from './Copy'

// CommandLine is one command or line to copy whole.
export function CommandLine({ command, label }: { command: string; label?: string }) {
  const { copied, copy } = useCopy()
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1 }}>
      {label && (
        <Typography variant="body2" color="textSecondary" sx={{ width: 112, flexShrink: 0 }}>
          {label}
        </Typography>
      )}
      <Box
        component="code"
        tabIndex={0}
        sx={{ fontFamily: mono, fontSize: '0.8125rem', whiteSpace: 'pre', overflowX: 'auto', flex: 1, bgcolor: 'background.default', border: 1, borderColor: 'divider', borderRadius: 1, px: 1.25, py: 0.75 }}
      >
        {command}
      </Box>
      <Button size="small" variant="outlined" aria-label={`Copy: ${command}`} onClick={() => void copy(command)} sx={{ width: 76 }}>
        {copied ? 'Copied' : 'Copy'}
      </Button>
    </Box>
  )
}

export interface Tool {
  name: string
  lines: { label?: string; command: string }[]
  note?: ReactNode
}

// Commands are the exact commands for one place, by tool.
export function Commands({ title, tools, under }: { title: string; tools: Tool[]; under?: ReactNode }) {
  const [shown, setShown] = useState(0)
  const tool = tools[shown]!
  return (
    <Paper component="section" aria-label={title} sx={{ px: 2, pt: 1, pb: 2 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: 1.5 }}>
        <Typography variant="h3" component="h2">
          {title}
        </Typography>
        <Tabs value={shown} onChange={(_, at: number) => setShown(at)} aria-label="Tool">
          {tools.map((t) => (
            <Tab key={t.name} label={t.name} />
          ))}
        </Tabs>
      </Box>
      <Box sx={{ display: 'grid', gap: 0.75 }}>
        {tool.lines.map((l) => (
          <CommandLine key={l.label ?? l.command} {...l} />
        ))}
      </Box>
      {tool.note && (
        <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
          {tool.note}
        </Typography>
      )}
      {under}
    </Paper>
  )
}
