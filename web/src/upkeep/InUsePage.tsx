import { Box, Checkbox, FormControlLabel, Link, Typography } from '@mui/material'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { useRows } from '../api/asking'
import type { Schemas } from '../api/client'
import { entriesOf, useInUse, useInUseLists, useMakeInUse } from '../api/retention'
import { useMe } from '../api/session'
import { When } from '../parts/Amounts'
import { CommandLine } from '../parts/Commands'
import { DialogButton, Field, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { mono } from '../theme'
import { RuleTabs } from './Places'

type InUseEntry = Schemas['InUseEntry']

// InUsePage tells what runs somewhere: retention rules keep it.
export function InUsePage() {
  const [asked, ask] = useSearchParams()
  const name = asked.get('list') ?? undefined
  const lists = useInUseLists(true)
  const me = useMe()
  return (
    <Page title="In use" beside={<Typography color="textSecondary">what runs somewhere, so that retention rules keep it</Typography>} do={me.data?.admin && <MakeList />}>
      <RuleTabs />
      {lists.isPending && <Waiting />}
      {lists.error && <Trouble asked="Reading the lists of what is in use" error={lists.error} again={() => void lists.refetch()} />}
      {lists.data && lists.data.lists.length === 0 && <Empty command={`warthesis in-use make ${location.host} cluster-north --keeper cluster-north`}>No list says what is in use. A list is made by a registry admin, and refreshed by a cluster or by hand.</Empty>}
      {lists.data && lists.data.lists.length > 0 && (
        <Section title="Lists">
          <PlainTable
            label="Lists of what is in use" rows={lists.data.lists} rowKey={(l) => l.name}
            columns={[
              { title: 'List', cell: (l) => <Link component="button" underline="always" aria-expanded={name === l.name} onClick={() => ask(name === l.name ? {} : { list: l.name })}>{l.name}</Link> },
              { title: 'References', number: true, width: 90, cell: (l) => l.count.toLocaleString('en') },
              { title: 'Refreshed', cell: (l) => <><When at={l.refreshed_at} />{l.refreshed_by && ` by ${l.refreshed_by}`}</> },
              { title: 'Fresh for', cell: (l) => l.fresh_for },
              { title: 'Kept by', cell: (l) => l.keeper ?? 'admins' },
              { title: 'State', cell: (l) => (l.stale ? <Typography component="span" color="warning.main">stale: rules keep all of their pattern</Typography> : 'fresh') },
            ]}
          />
        </Section>
      )}
      {name && <Entries name={name} />}
    </Page>
  )
}

const columns: Column<InUseEntry, 'reference'>[] = [
  { title: 'Reference', width: 'minmax(0, 1fr)', cell: (e) => <Box component="span" title={e.reference} sx={{ fontFamily: mono, fontSize: '0.8125rem' }}>{e.reference}</Box> },
  { title: 'Held here', width: '90px', cell: (e) => (e.held ? 'yes' : <Typography component="span" color="warning.main">no</Typography>) },
  { title: 'State', width: '250px', cell: (e) => (e.left_for === undefined ? 'runs' : e.left_for < 86400 ? 'left today; counts for 30 days more' : `left ${Math.floor(e.left_for / 86400)} days ago; counts for 30`) },
]

function Entries({ name }: { name: string }) {
  const [absent, setAbsent] = useState(false)
  const shown = useInUse(name, absent)
  const { rows, paging } = useRows(shown, entriesOf)
  return (
    <Section title={`What is in use by ${name}`} beside={<FormControlLabel label="Only what is not held here" control={<Checkbox size="small" checked={absent} onChange={(e) => setAbsent(e.target.checked)} />} />}>
      {shown.isPending && <Waiting />}
      {shown.error && <Trouble asked="Reading what is in use" error={shown.error} />}
      {shown.data && rows.length === 0 && <Typography color="textSecondary">{absent ? 'All that is in use is held here.' : 'Nothing is in use by it.'}</Typography>}
      {rows.length > 0 && (
        <Box sx={{ height: Math.min(420, 40 + 36 * Math.max(4, rows.length)), display: 'flex', flexDirection: 'column' }}>
          <RowTable label="What is in use" columns={columns} rows={rows} rowKey={(e) => e.reference} sort="reference" more={paging.more} onMore={paging.onMore} />
        </Box>
      )}
      {rows.some((e) => !e.held && e.left_for === undefined) && (
        <Box sx={{ mt: 1 }}>
          <Typography>What runs and is not held here, by digest, to be copied:</Typography>
          <CommandLine command={`warthesis in-use show ${location.host} ${name} --absent --references > missing.txt`} />
        </Box>
      )}
    </Section>
  )
}

function MakeList() {
  const [name, setName] = useState('')
  const [keeper, setKeeper] = useState('')
  const [fresh, setFresh] = useState('3d')
  const make = useMakeInUse()
  return (
    <DialogButton name="Make a list" title="Make a list of what is in use" action="Make it" busy={make.isPending} error={make.error} ready={/^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$/.test(name)}
      onDo={(close) => make.mutate({ name, ...(keeper && { keeper }), fresh_for: fresh }, { onSuccess: close })}>
      <Field label="Name" value={name} onChange={setName} hint="small letters, digits and dashes; rules name it with in_use" autoFocus />
      <Field label="Kept by" value={keeper} onChange={setKeeper} hint="the account that refreshes it, as of a cluster; nobody but admins where it is left out" />
      <Field label="Fresh for" value={fresh} onChange={setFresh} hint="for how long one refreshing is good, as in 12h or 3d; a stale list keeps all of its pattern" />
    </DialogButton>
  )
}
