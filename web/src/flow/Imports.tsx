import { Box, Button, Checkbox, FormControlLabel, Link, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route } from 'react-router'
import { type Import, isRunning, useImports, useMakeImport } from '../api/carried'
import { type Peer, usePeerImage, usePeerNames } from '../api/flow'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { DialogButton, Field, Section } from '../parts/Forms'
import { PlainTable } from '../parts/PlainTable'
import { Trouble } from '../parts/States'

// whatOf says what an import brings in.
export const whatOf = (i: Import) => {
  const first = i.what[0]
  const text = first?.pattern === '*' ? 'all of it' : (first?.pattern ?? first?.from ?? '')
  return i.what.length > 1 ? `${text} and ${i.what.length - 1} more` : text
}

// Imports lists what is brought in from peers by naming it.
export function Imports({ peers, admin }: { peers: Peer[]; admin: boolean }) {
  const list = useImports()
  const rows = list.data?.imports ?? []
  return (
    <Section title="Imports" beside={admin && <MakeImport peers={peers} />}>
      {list.error && <Trouble asked="Listing imports" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && <Typography color="textSecondary">None. An import brings in a repository of a peer with all its tags, or all that the peer has, once or again and again.</Typography>}
      {rows.length > 0 && (
        <PlainTable
          label="Imports" rows={rows} rowKey={(i) => i.name}
          columns={[
            { title: 'Import', cell: (i) => <Link component={Route} to={`/import/${i.name}`} underline="always">{i.name}</Link> },
            { title: 'Brings', cell: (i) => `${whatOf(i)} from ${i.peer}` },
            { title: 'When', cell: (i) => i.when ?? 'by hand' },
            { title: 'State', cell: (i) => (isRunning(i) ? `${i.step ?? 'waiting'}: ${(i.done ?? 0).toLocaleString('en')} of ${(i.total ?? 0).toLocaleString('en')} repositories` : <Typography component="span" color={i.state === 'failed' ? 'error' : undefined}>{i.says ?? i.state ?? 'never ran'}</Typography>) },
            { title: 'Last ended', width: 130, cell: (i) => (i.ended_at ? <When at={i.ended_at} /> : '–') },
          ]}
        />
      )}
    </Section>
  )
}

const nameFor = (peer: string, what: string) => `${peer}-${what}`.toLowerCase().replace(/[^a-z0-9]+/g, '-').replace(/^-|-$/g, '').slice(0, 60)

function MakeImport({ peers }: { peers: Peer[] }) {
  const [peer, setPeer] = useState(peers[0]!.name)
  const [what, setWhat] = useState('')
  const [here, setHere] = useState('')
  const [name, setName] = useState('')
  const [when, setWhen] = useState('')
  const [overwrites, setOverwrites] = useState(false)
  const [looked, look] = useState('')
  const make = useMakeImport()
  const many = what.includes('*')
  const called = name || nameFor(peer, many ? what.replaceAll('*', '') : what)
  const body = {
    name: called, peer, overwrites,
    what: [many ? { pattern: what } : { from: what, ...(here && { to: here }) }],
    ...(many && here && { prefix: here }), ...(when && { when }),
  }
  return (
    <DialogButton
      name="Bring something in" title="Bring something in from a peer" action="Bring it in" busy={make.isPending} error={make.error} ready={what !== ''}
      onDo={(close) => make.mutate(body, { onSuccess: close })}
    >
      <Box sx={{ display: 'grid', gridTemplateColumns: '1fr 1fr', gap: 2 }}>
        <Field label="Peer" value={peer} onChange={setPeer} options={peers.map((p) => ({ value: p.name, name: p.name }))} />
        <Field label="Repository there" value={what} onChange={setWhat} hint="a name, a pattern as in signals/*, or * for all of it" autoFocus />
        <Field label={many ? 'Before the names here' : 'Called here'} value={here} onChange={setHere} hint="the same where it is left out" />
        <Field label="Name of the import" value={name} onChange={setName} hint={called} />
        <Field label="Again" value={when} onChange={setWhen} hint="every 6h, or a cron expression; by hand where it is left out" />
      </Box>
      <Box>
        <FormControlLabel label="Also move tags that somebody moved here" control={<Checkbox size="small" checked={overwrites} onChange={(e) => setOverwrites(e.target.checked)} />} />
      </Box>
      <Box><Button size="small" variant="outlined" disabled={what === '' || many} onClick={() => look(what)}>Look at it first</Button></Box>
      {looked !== '' && looked === what && <Details peer={peer} repository={what} />}
      {many && <Typography color="textSecondary">What it means is listed by the run itself; run it as a preview first from its page, or with <code>warthesis import --preview</code>.</Typography>}
    </DialogButton>
  )
}

// Details shows what a repository of a peer has before it is brought in.
function Details({ peer, repository }: { peer: string; repository: string }) {
  const tags = usePeerNames(peer, repository)
  const names = tags.data?.pages.flatMap((p) => p.names) ?? []
  const newest = names.includes('latest') ? 'latest' : names[names.length - 1]
  if (tags.error) return <Trouble asked={`Looking at ${repository}`} error={tags.error} />
  if (!tags.data) return <Typography role="status">Looking …</Typography>
  if (!newest) return <Typography role="status">It has no tags.</Typography>
  const few = 12
  return (
    <Box role="status">
      <Typography>{names.length.toLocaleString('en')}{tags.hasNextPage && ' or more'} tags: {names.slice(-few).reverse().join(', ')}{names.length > few && ' …'}</Typography>
      <Newest peer={peer} repository={repository} tag={newest} />
    </Box>
  )
}

function Newest({ peer, repository, tag }: { peer: string; repository: string; tag: string }) {
  const image = usePeerImage(peer, repository, tag)
  if (image.error) return <Trouble asked={`Looking at ${repository}:${tag}`} error={image.error} />
  const is = image.data
  if (!is) return null
  return (
    <Box sx={{ mt: 1 }}>
      <Typography><b>{tag}</b> is <Digest digest={is.digest} />{is.size !== undefined && <>, <Size bytes={is.size} /></>}</Typography>
      {is.platforms && is.platforms.length > 0 && <Typography color="textSecondary">{is.platforms.map((p) => p.platform).filter(Boolean).join(', ')}</Typography>}
    </Box>
  )
}
