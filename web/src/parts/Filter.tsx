import { InputBase } from '@mui/material'
import { useEffect, useState } from 'react'
import { useSearchParams } from 'react-router'
import type { ListView, Sort } from '../api/asking'

// useListView keeps sort and filter of a list in the address, so that it can be sent.
export function useListView(first: Sort) {
  const [asked, ask] = useSearchParams()
  const view: ListView = { sort: (asked.get('sort') as Sort | null) ?? first, contains: asked.get('contains') ?? '' }
  const change = (to: Partial<ListView>) => {
    const next = { ...view, ...to }
    ask(
      (old) => {
        const params = new URLSearchParams(old)
        if (next.sort === first) params.delete('sort')
        else params.set('sort', next.sort)
        if (next.contains === '') params.delete('contains')
        else params.set('contains', next.contains)
        return params
      },
      { replace: true },
    )
  }
  return { view, change }
}

export function Filter({ label, value, onChange, inForm }: {
  label: string
  value: string
  onChange: (value: string) => void
  // inForm tells that it stands among other fields, and is as wide as its place.
  inForm?: boolean
}) {
  const [text, setText] = useState(value)
  useEffect(() => setText(value), [value])
  useEffect(() => {
    if (text === value) return
    const late = setTimeout(() => onChange(text), 200)
    return () => clearTimeout(late)
  }, [text, value, onChange])
  return (
    <InputBase
      value={text}
      onChange={(e) => setText(e.target.value)}
      placeholder={label}
      inputProps={{ 'aria-label': label, spellCheck: false }}
      sx={{
        border: 1, borderColor: 'divider', borderRadius: 1, bgcolor: 'background.paper', px: 1.25, height: 32, width: inForm ? '100%' : 240, ml: inForm ? 0 : 'auto',
        '& input::placeholder': { color: 'text.secondary', opacity: 1 }, '&:focus-within': { borderColor: 'primary.main' }, '& input:focus-visible': { outline: 'none' },
      }}
    />
  )
}
