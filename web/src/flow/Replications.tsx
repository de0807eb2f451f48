import { Link, Typography } from '@mui/material'
import { Link as Route } from 'react-router'
import type { Peer } from '../api/flow'
import { type Replication, useMakeReplication } from '../api/replication'
import { Size } from '../parts/Amounts'
import { DialogButton, Section } from '../parts/Forms'
import { PlainTable } from '../parts/PlainTable'
import { useRuleForm } from './RuleForm'
import { spanText, stateText, tone, whither } from './words'

// State says in words how it stands with a rule.
export function State({ of: r }: { of: Replication }) {
  const colour = tone(r.state)
  return <Typography component="span" color={colour === 'primary' ? undefined : colour} title={r.error}>{stateText(r)}</Typography>
}

// Replications lists the rules by which images travel.
export function Replications({ rules, peers, admin }: { rules: Replication[]; peers: Peer[]; admin: boolean }) {
  return (
    <Section title="Replication rules" beside={admin && <MakeRule peers={peers} />}>
      {rules.length === 0 && <Typography color="textSecondary">None. A rule copies what its patterns mean to a peer, or from one: as it is pushed, at times, or by hand.</Typography>}
      {rules.length > 0 && (
        <PlainTable
          label="Replication rules" rows={rules} rowKey={(r) => r.name ?? ''}
          columns={[
            { title: 'Rule', cell: (r) => <Link component={Route} to={`/replication/${r.name}`} underline="always">{r.name}</Link> },
            { title: 'Copies', cell: (r) => `${r.copy.join(', ')} ${whither(r)}` },
            { title: 'State', cell: (r) => <State of={r} /> },
            { title: 'Due', number: true, width: 70, cell: (r) => (r.due + r.places).toLocaleString('en') },
            { title: 'Lag', number: true, width: 80, cell: (r) => (r.lag > 0 ? spanText(r.lag) : '–') },
            { title: 'Left', number: true, width: 90, cell: (r) => (r.bytes_left > 0 ? <Size bytes={r.bytes_left} /> : '–') },
            { title: 'Conflicts', number: true, width: 80, cell: (r) => r.conflicting.toLocaleString('en') },
            { title: 'Same on both sides', number: true, width: 130, cell: (r) => r.copies.toLocaleString('en') },
          ]}
        />
      )}
    </Section>
  )
}

function MakeRule({ peers }: { peers: Peer[] }) {
  const form = useRuleForm(peers)
  const make = useMakeReplication()
  return (
    <DialogButton name="Make a rule" title="Make a replication rule" action="Make it" busy={make.isPending} error={make.error} ready={form.ready} onDo={(close) => make.mutate(form.rule, { onSuccess: close })}>
      {form.fields}
    </DialogButton>
  )
}
