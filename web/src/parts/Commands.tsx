import { Box, Button, Paper, Tab, Tabs, Typography } from '@mui/material'
import { type ReactNode, useState } from 'react'
import { mono } from '../theme'
import { useCopy } from './Copy'

// CommandLine is one command or line to copy whole.
export function CommandLine({ command, label }: { command: string; label?: string }) {
  const { copied, copy } = useCopy()
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, minWidth: 0 }}>
      {label && (
        <Typography variant="body2" color="textSecondary" sx={{ width: 112, flexShrink: 0 }}>
          {label}
        </Typography>
      )}
      <Box
        component="code"
        tabIndex={0}
        sx={{ fontFamily: mono, fontSize: '0.8125rem', whiteSpace: 'pre', overflowX: 'auto', flex: 1, minWidth: 0, bgcolor: 'background.default', border: 1, borderColor: 'divider', borderRadius: 1, px: 1.25, py: 0.75 }}
      >
        {command}
      </Box>
      <Button size="small" variant="outlined" aria-label={`Copy: ${command}`} onClick={() => void copy(command)} sx={{ width: 76, flexShrink: 0 }}>
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

// What somebody chose once: which tool, and whether the commands are folded away.
const toolKey = 'warthesis-tool'
const foldKey = 'warthesis-folded'

// Commands are the exact commands for one place, by tool.
export function Commands({ title, tools, under }: { title: string; tools: Tool[]; under?: ReactNode }) {
  const [chosen, setChosen] = useState(() => localStorage.getItem(toolKey) ?? '')
  const [folded, setFolded] = useState(() => localStorage.getItem(foldKey) !== null)
  const tool = tools.find((t) => t.name === chosen) ?? tools[0]!
  const choose = (name: string) => {
    localStorage.setItem(toolKey, name)
    setChosen(name)
  }
  const fold = () => {
    if (folded) localStorage.removeItem(foldKey)
    else localStorage.setItem(foldKey, 'yes')
    setFolded(!folded)
  }
  return (
    <Paper component="section" aria-label={title} sx={{ px: 2, pt: 1, pb: folded ? 1 : 2, minWidth: 0 }}>
      <Box sx={{ display: 'flex', alignItems: 'center', gap: 2, mb: folded ? 0 : 1.5 }}>
        <Typography variant="h3" component="h2" sx={{ whiteSpace: 'nowrap' }}>
          {title}
        </Typography>
        {folded ? (
          <Box sx={{ flex: 1, minHeight: 36 }} />
        ) : (
          <Tabs value={tool.name} onChange={(_, to: string) => choose(to)} aria-label="Tool" variant="scrollable" scrollButtons={false} sx={{ flex: 1, minWidth: 0 }}>
            {tools.map((t) => (
              <Tab key={t.name} value={t.name} label={t.name} />
            ))}
          </Tabs>
        )}
        <Button size="small" color="inherit" onClick={fold} aria-expanded={!folded} aria-label={folded ? `Show: ${title}` : `Fold: ${title}`}>
          {folded ? 'Show' : 'Fold'}
        </Button>
      </Box>
      {!folded && <ToolLines tool={tool} />}
      {!folded && under}
    </Paper>
  )
}

function ToolLines({ tool }: { tool: Tool }) {
  return (
    <>
      <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 0.75 }}>
        {tool.lines.map((l) => (
          <CommandLine key={l.label ?? l.command} {...l} />
        ))}
      </Box>
      {tool.note && (
        <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
          {tool.note}
        </Typography>
      )}
    </>
  )
}
