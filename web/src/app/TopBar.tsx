import { Box, Button, InputBase, Tooltip, useColorScheme } from '@mui/material'
import { useEffect, useRef, useState } from 'react'
import { useNavigate, useSearchParams } from 'react-router'
import { type Line, useChanges } from '../api/changes'

export function TopBar() {
  return (
    <Box component="header" sx={{ display: 'flex', alignItems: 'center', gap: 2, px: 3, borderBottom: 1, borderColor: 'divider' }}>
      <SearchField />
      <Box sx={{ flex: 1 }} />
      <LiveLine line={useChanges()} />
      <SchemeSwitch />
    </Box>
  )
}

function SearchField() {
  const [asked] = useSearchParams()
  const q = asked.get('q') ?? ''
  const [text, setText] = useState(q)
  const field = useRef<HTMLInputElement>(null)
  const go = useNavigate()
  useEffect(() => setText(q), [q])
  useEffect(() => {
    const focus = (e: KeyboardEvent) => {
      const at = e.target as HTMLElement
      if (e.key !== '/' || e.ctrlKey || e.metaKey || at.matches('input, textarea, select')) return
      e.preventDefault()
      field.current?.select()
    }
    window.addEventListener('keydown', focus)
    return () => window.removeEventListener('keydown', focus)
  }, [])
  return (
    <Box
      component="form"
      role="search"
      onSubmit={(e) => {
        e.preventDefault()
        if (text.trim() !== '') void go(`/find?q=${encodeURIComponent(text.trim())}`)
      }}
      sx={{ width: 520, maxWidth: '60%' }}
    >
      <InputBase
        fullWidth
        inputRef={field}
        value={text}
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => e.key === 'Escape' && field.current?.blur()}
        placeholder="Find a repository, name:tag, or any digest — press /"
        inputProps={{ 'aria-label': 'Find a repository, a tag or a digest', spellCheck: false }}
        sx={{
          bgcolor: 'background.paper', border: 1, borderColor: 'divider', borderRadius: 1, px: 1.5, height: 36,
          '&:focus-within': { borderColor: 'primary.main' },
          '& input::placeholder': { color: 'text.secondary', opacity: 1 },
          '& input:focus-visible': { outline: 'none' },
        }}
      />
    </Box>
  )
}

const lines: Record<Line, { sign: string; name: string; hint: string }> = {
  connecting: { sign: '○', name: 'Connecting', hint: 'Opening the line to the registry' },
  live: { sign: '●', name: 'Live', hint: 'Lists follow what is pushed, by themselves' },
  broken: { sign: '○', name: 'Not live', hint: 'The line to the registry broke; it is tried again. What you see may be old.' },
}

function LiveLine({ line }: { line: Line }) {
  const l = lines[line]
  return (
    <Tooltip title={l.hint}>
      <Box component="span" role="status" tabIndex={0} sx={{ color: line === 'broken' ? 'warning.main' : 'text.secondary', whiteSpace: 'nowrap' }}>
        <Box component="span" aria-hidden sx={{ color: line === 'live' ? 'primary.main' : 'inherit', mr: 0.75 }}>
          {l.sign}
        </Box>
        {l.name}
      </Box>
    </Tooltip>
  )
}

function SchemeSwitch() {
  const { mode, systemMode, setMode } = useColorScheme()
  const dark = (mode === 'system' ? systemMode : mode) === 'dark'
  return (
    <Button size="small" color="inherit" onClick={() => setMode(dark ? 'light' : 'dark')} sx={{ whiteSpace: 'nowrap' }}>
      {dark ? 'Light' : 'Dark'}
    </Button>
  )
}
