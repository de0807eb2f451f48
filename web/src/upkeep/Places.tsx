import { MenuItem, Tab, Tabs, TextField, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useLocation } from 'react-router'
import { useNamespaces } from '../api/namespaces'
import { type At, type Kind, useRuleLists } from '../api/rules'
import { useMe } from '../api/session'
import { DialogButton, Field } from '../parts/Forms'

export const titleOf = (at: At) => (at.list ? `Rules of the list ${at.list}` : at.place ? `Rules of ${at.place}` : 'Rules of the registry')

// RuleTabs lead between the kinds of rules, and what they ask.
export function RuleTabs() {
  const { pathname, search } = useLocation()
  const place = new URLSearchParams(search).get('place')
  const to = (path: string) => (place ? `${path}?place=${place}` : path)
  return (
    <Tabs value={pathname} aria-label="Kinds of rules" sx={{ mb: 2 }}>
      <Tab component={Route} to={to('/rules')} value="/rules" label="Immutability" />
      <Tab component={Route} to={to('/retention')} value="/retention" label="Retention" />
      <Tab component={Route} to="/in-use" value="/in-use" label="In use" />
    </Tabs>
  )
}

// Places leads to the lists of a kind that there are.
export function Places({ kind, at, onGo }: { kind: Kind; at: At; onGo: (at: At) => void }) {
  const me = useMe()
  const namespaces = useNamespaces('')
  const [name, setName] = useState('')
  const wide = me.data?.admin || (me.data?.roles.some((r) => r.place === '') ?? false) || (me.data?.roles.some((r) => r.role === 'owner') ?? false)
  const lists = useRuleLists(wide, kind)
  const here = at.list ? `list:${at.list}` : at.place ? `place:${at.place}` : 'registry'
  const options = [
    ...(wide ? [{ key: 'registry', name: 'the registry', at: {} as At }] : []),
    ...(namespaces.data?.namespaces.filter((n) => n.role !== undefined && n.role !== 'reader') ?? []).map((n) => ({ key: `place:${n.name}`, name: `namespace ${n.name}`, at: { place: n.name } as At })),
    ...(lists.data?.lists ?? []).map((l) => ({ key: `list:${l.list}`, name: `list ${l.list}`, at: { list: l.list! } as At })),
  ]
  if (!options.some((o) => o.key === here)) options.push({ key: here, name: at.list ? `list ${at.list}` : at.place ? `${at.place.includes('/') ? 'repository' : 'namespace'} ${at.place}` : 'the registry', at })
  return (
    <>
    {me.data?.admin && (
      <DialogButton name="A list with a name" title="Make a list with a name" action="Write it" busy={false} error={null} ready={/^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$/.test(name)} onDo={(close) => {
        close()
        onGo({ list: name })
      }}>
        <Field label="Name" value={name} onChange={setName} hint="small letters, digits and dashes" autoFocus />
        <Typography>Other lists use its rules with “use: {name || 'NAME'}”; what is changed here acts wherever it is used.</Typography>
      </DialogButton>
    )}
    <TextField select size="small" label="Rules of" value={here} onChange={(e) => onGo(options.find((o) => o.key === e.target.value)!.at)} sx={{ minWidth: 220 }}>
      {options.map((o) => <MenuItem key={o.key} value={o.key}>{o.name}</MenuItem>)}
    </TextField>
    </>
  )
}
