import { Box, Checkbox, FormControlLabel, Link, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route } from 'react-router'
import { type Follow, type Peer, useFollows, usePeers, useRemoveFollow, useSetFollow } from '../api/flow'
import { useMe } from '../api/session'
import { useReplications } from '../api/replication'
import { Size, When } from '../parts/Amounts'
import { Ask, DialogButton, Field, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { CarriedIn } from './CarriedIn'
import { FlowMap } from './FlowMap'
import { Imports } from './Imports'
import { MakePeer } from './MakePeer'
import { Replications } from './Replications'

// FlowPage answers what goes where, how far behind, and why not: which other registries there
// are, which rules copy to them and from them, and which namespaces take what they lack from
// them.
export function FlowPage() {
  const peers = usePeers()
  const follows = useFollows()
  const rules = useReplications()
  const me = useMe()
  const admin = me.data?.admin ?? false
  return (
    <Page title="Flow" beside={<Typography color="textSecondary">what goes where, and how far behind it is</Typography>} do={admin && <MakePeer />}>
      {(peers.isPending || follows.isPending) && <Waiting />}
      {peers.error && <Trouble asked="Listing peers" error={peers.error} again={() => void peers.refetch()} />}
      {follows.error && <Trouble asked="Listing what namespaces follow" error={follows.error} again={() => void follows.refetch()} />}
      {rules.error && <Trouble asked="Listing replication rules" error={rules.error} again={() => void rules.refetch()} />}
      {peers.data?.peers.length === 0 && (
        <Empty command={`warthesis peer make ${location.host} depot tarn.larkspur.example --account depot-hq --from-stdin`}>
          This registry talks to no other one. An admin makes a peer; then rules can copy to it and from it, and namespaces can follow it.
        </Empty>
      )}
      {peers.data?.peers.length === 0 && <CarriedIn />}
      {peers.data && peers.data.peers.length > 0 && (
        <>
          {follows.data && rules.data && <FlowMap peers={peers.data.peers} follows={follows.data.follows} rules={rules.data.replications} />}
          <CarriedIn />
          {rules.data && <Replications rules={rules.data.replications} peers={peers.data.peers} admin={admin} />}
          <Imports peers={peers.data.peers} admin={admin} />
          <Peers peers={peers.data.peers} />
          {follows.data && <Follows peers={peers.data.peers} follows={follows.data.follows} admin={admin} />}
        </>
      )}
    </Page>
  )
}

function Peers({ peers }: { peers: Peer[] }) {
  return (
    <Section title="Peers">
      <PlainTable
        label="Peers" rows={peers} rowKey={(p) => p.name}
        columns={[
          { title: 'Peer', cell: (p) => <Link component={Route} to={`/peer/${p.name}`} underline="always">{p.name}</Link> },
          { title: 'Address', cell: (p) => <>{p.address}{p.prefix && <Typography component="span" color="textSecondary">/{p.prefix}</Typography>}</> },
          { title: 'As', cell: (p) => p.account ?? 'without a login' },
          { title: 'Tested', cell: (p) => <When at={p.tested_at} /> },
          { title: 'State', cell: (p) => (p.failed ? <Typography component="span" color="error">stopped at the step {p.failed}</Typography> : p.tested_at ? 'well' : 'not tested') },
        ]}
      />
    </Section>
  )
}

const sourceText = (f: Follow) => f.sources.map((s) => (s.prefix ? `${s.peer}/${s.prefix}` : s.peer)).join(', then ')

function Follows({ peers, follows, admin }: { peers: Peer[]; follows: Follow[]; admin: boolean }) {
  const remove = useRemoveFollow()
  return (
    <Section title="Namespaces that follow" beside={admin && <SetFollow peers={peers} />}>
      {follows.length === 0 && <Typography color="textSecondary">None. A namespace that follows a peer fetches what it lacks when it is pulled, and keeps it.</Typography>}
      {follows.length > 0 && (
        <PlainTable
          label="Namespaces that follow" rows={follows} rowKey={(f) => f.namespace}
          columns={[
            { title: 'Namespace', cell: (f) => <Link component={Route} to={`/n/${f.namespace}`} underline="always">{f.namespace}</Link> },
            { title: 'Follows', cell: sourceText },
            { title: 'Only', cell: (f) => f.sources.flatMap((s) => s.patterns ?? []).join(', ') || 'everything' },
            { title: 'Fresh for', cell: (f) => f.fresh_for },
            { title: 'Served in 30 days', cell: (f) => <Served of={f} /> },
            { title: 'Fetches', cell: (f) => (f.complete ? 'all of it' : 'what is asked for') },
            {
              title: '', width: 150, cell: (f) => admin && (
                <Ask
                  name="Follow nobody" label={`Let ${f.namespace} follow nobody`} question={`Let ${f.namespace} follow nobody?`} action="Follow nobody" busy={remove.isPending} error={remove.error}
                  consequence="What came stays; what was not fetched cannot be pulled then. Set it again to get it back."
                  onDo={(close) => remove.mutate(f.namespace, { onSuccess: close })}
                />
              ),
            },
          ]}
        />
      )}
    </Section>
  )
}

// Served draws what came from here and what from a peer, beside its figures.
function Served({ of: f }: { of: Follow }) {
  const { here_bytes: here, there_bytes: there } = f.served
  if (here + there === 0) return <Typography component="span" color="textSecondary">nothing yet</Typography>
  return (
    <>
      <Box aria-hidden sx={{ display: 'flex', height: 6, borderRadius: 1, overflow: 'hidden', my: 0.5, maxWidth: 180 }}>
        <Box sx={{ flexGrow: here, bgcolor: 'primary.main' }} />
        <Box sx={{ flexGrow: there, bgcolor: 'warning.main' }} />
      </Box>
      <Size bytes={here} /> from here, <Size bytes={there} /> from there
    </>
  )
}

function SetFollow({ peers }: { peers: Peer[] }) {
  const [namespace, setNamespace] = useState('')
  const [peer, setPeer] = useState(peers[0]!.name)
  const [prefix, setPrefix] = useState('')
  const [only, setOnly] = useState('')
  const [fresh, setFresh] = useState('5m')
  const [complete, setComplete] = useState(false)
  const set = useSetFollow()
  const patterns = only.split(/[\s,]+/).filter(Boolean)
  return (
    <DialogButton
      name="Let a namespace follow" title="Let a namespace follow a peer" action="Set it" busy={set.isPending} error={set.error} ready={namespace !== ''}
      onDo={(close) => set.mutate({ namespace, sources: [{ peer, ...(prefix && { prefix }), ...(patterns.length > 0 && { patterns }) }], fresh_for: fresh, complete }, { onSuccess: close })}
    >
      <Field label="Namespace" value={namespace} onChange={setNamespace} hint="what it followed before is replaced" autoFocus />
      <Field label="Peer" value={peer} onChange={setPeer} options={peers.map((p) => ({ value: p.name, name: p.name }))} />
      <Field label="Prefix there" value={prefix} onChange={setPrefix} hint={`${namespace || 'NAMESPACE'}/x is ${prefix ? `${prefix}/` : ''}x there`} />
      <Field label="Only" value={only} onChange={setOnly} hint="patterns by the names here, as in outside/printer*; everything where it is left out" />
      <Field label="Fresh for" value={fresh} onChange={setFresh} hint="for how long a tag is served without asking" />
      <FormControlLabel label="Also fetch afterwards what nobody asked for" control={<Checkbox size="small" checked={complete} onChange={(e) => setComplete(e.target.checked)} />} />
    </DialogButton>
  )
}
