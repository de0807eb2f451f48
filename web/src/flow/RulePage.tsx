import { Box, Button, LinearProgress, Link, Typography } from '@mui/material'
import { lazy, type ReactNode, Suspense } from 'react'
import { Link as Route, useNavigate, useParams } from 'react-router'
import { usePeers } from '../api/flow'
import { type Replication, useChangeReplication, useFlowSamples, usePauseReplication, useRemoveReplication, useReplication, useRunReplication } from '../api/replication'
import { useMe } from '../api/session'
import { sizeText, When } from '../parts/Amounts'
import { Ask, DialogButton, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { Trouble, Waiting } from '../parts/States'
import { Drift } from './Drift'
import { Due } from './Due'
import { useRuleForm } from './RuleForm'
import { State } from './Replications'
import { spanText, whither } from './words'

const FlowChart = lazy(() => import('./FlowChart'))

// RulePage shows one replication rule: how far it is, and why not further.
export function RulePage() {
  const { name = '' } = useParams()
  const rule = useReplication(name)
  const me = useMe()
  const admin = me.data?.admin ?? false
  return (
    <Page title={`Replication ${name}`} over={<Link component={Route} to="/flow" underline="always">Flow</Link>} beside={rule.data && <State of={rule.data} />} do={admin && rule.data && <Does rule={rule.data} />}>
      {rule.isPending && <Waiting />}
      {rule.error && <Trouble asked="Looking for the rule" error={rule.error} again={() => void rule.refetch()} />}
      {rule.data && (
        <>
          <HowFar rule={rule.data} admin={admin} />
          <Due name={name} admin={admin} inward={rule.data.from !== undefined} />
          <Drift name={name} admin={admin} />
          <Says rule={rule.data} />
        </>
      )}
    </Page>
  )
}

function Does({ rule }: { rule: Replication }) {
  const name = rule.name ?? ''
  const pause = usePauseReplication(name)
  const run = useRunReplication(name)
  const remove = useRemoveReplication()
  const go = useNavigate()
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
      <Said error={run.error ?? pause.error} />
      <Button size="small" variant="contained" disableElevation disabled={run.isPending || rule.paused} onClick={() => run.mutate({})}>Run it now</Button>
      <Button size="small" variant="outlined" disabled={pause.isPending} onClick={() => pause.mutate(!rule.paused)}>{rule.paused ? 'Let it act again' : 'Pause it'}</Button>
      <ChangeRule rule={rule} />
      <Ask
        name="Remove it" question={`Remove the replication rule ${name}?`} action="Remove it" busy={remove.isPending} error={remove.error}
        consequence="What it copied stays on both sides. To get it back, make it again: both sides are compared then."
        onDo={(close) => remove.mutate(name, { onSuccess: () => { close(); void go('/flow') } })}
      />
    </Box>
  )
}

function ChangeRule({ rule }: { rule: Replication }) {
  const peers = usePeers()
  const form = useRuleForm(peers.data?.peers ?? [], rule)
  const change = useChangeReplication(rule.name ?? '')
  return (
    <DialogButton
      name="Change it" title={`Change the rule ${rule.name}`} action="Change it" busy={change.isPending} error={change.error} ready={form.ready && peers.data !== undefined}
      onDo={(close) => change.mutate({ ...form.rule, version: rule.version }, { onSuccess: close })}
    >
      {form.fields}
    </DialogButton>
  )
}

function Figure({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box sx={{ minWidth: 0 }}>
      <Typography variant="body2" color="textSecondary">{name}</Typography>
      <Typography sx={{ fontSize: '1.125rem', fontVariantNumeric: 'tabular-nums' }}>{children}</Typography>
    </Box>
  )
}

function HowFar({ rule: r, admin }: { rule: Replication; admin: boolean }) {
  const samples = useFlowSamples(r.name ?? '', 24)
  return (
    <Section title="How far it is">
      <Box sx={{ display: 'grid', gridTemplateColumns: 'repeat(7, minmax(0, 1fr))', gap: 2, mb: 1.5 }}>
        <Figure name="Lag">{r.lag > 0 ? spanText(r.lag) : 'none'}</Figure>
        <Figure name="Due">{(r.due + r.places).toLocaleString('en')}</Figure>
        <Figure name="Left, at most">{r.bytes_left > 0 ? sizeText(r.bytes_left) : 'nothing'}</Figure>
        <Figure name="Rate">{r.bytes_rate > 0 ? `${sizeText(r.bytes_rate)}/s` : '–'}</Figure>
        <Figure name="Time left">{r.seconds_left !== undefined ? `about ${spanText(r.seconds_left)}` : '–'}</Figure>
        <Figure name="Conflicts">{r.conflicting.toLocaleString('en')}</Figure>
        <Figure name="Same on both sides">{r.copies.toLocaleString('en')}</Figure>
      </Box>
      {r.error && (
        <Typography role="alert" color="error" sx={{ mb: 1, overflowWrap: 'anywhere' }}>
          {r.error}{r.again_in !== undefined && ` It is tried again in ${spanText(r.again_in)}.`}
        </Typography>
      )}
      {r.asks > 0 && <Asks rule={r} admin={admin} />}
      {r.going.map((g) => (
        <Box key={`${g.repository}${g.tag}${g.digest}`} sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) 200px 160px', gap: 2, alignItems: 'center', py: 0.25 }}>
          <Typography noWrap>{g.tag ? `${g.repository}:${g.tag}` : `what refers to an image of ${g.repository}`} <Typography component="span" color="textSecondary">→ {g.target}</Typography></Typography>
          <LinearProgress variant="determinate" value={g.bytes > 0 ? Math.min(100, (100 * g.moved) / g.bytes) : 0} aria-label={`Progress of ${g.repository}:${g.tag ?? ''}`} sx={{ borderRadius: 1 }} />
          <Typography sx={{ textAlign: 'right', fontVariantNumeric: 'tabular-nums' }}>{sizeText(g.moved)} of {sizeText(g.bytes)}</Typography>
        </Box>
      ))}
      {samples.data && samples.data.samples.length > 0 && <Suspense fallback={<Waiting />}><FlowChart samples={samples.data.samples} /></Suspense>}
    </Section>
  )
}

function Asks({ rule, admin }: { rule: Replication; admin: boolean }) {
  const run = useRunReplication(rule.name ?? '')
  return (
    <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mb: 1 }}>
      <Typography color="warning">{rule.asks} removals would take more than a fifth of a repository on the other side, and wait for a word.</Typography>
      {admin && (
        <Ask
          name="Let them go" question="Let these removals go?" action="Let them go" busy={run.isPending} error={run.error}
          consequence="The rule removes on the other side what it put there and was removed since. Only there it can be brought back."
          onDo={(close) => run.mutate({ removals: true }, { onSuccess: close })}
        />
      )}
    </Box>
  )
}

function Says({ rule: r }: { rule: Replication }) {
  const facts: [string, ReactNode][] = [
    ...(r.because ? [['Because', r.because] as [string, string]] : []),
    ['Copies', `${r.copy.join(', ')} ${whither(r)}`],
    ...(r.except ? [['Except', r.except.join(', ')] as [string, string]] : []),
    ...(r.artifact_types ? [['Only', r.artifact_types.join(', ')] as [string, string]] : []),
    ['As', r.as ?? 'the same name'],
    ['When', [r.when, r.hours && `${r.hours} UTC`, r.rate && `at most ${r.rate} a second`].filter(Boolean).join(', ')],
    ['What is removed', r.removals === 'remove' ? 'goes on the other side too, if the rule put it there and nobody moved it' : 'stays on the other side'],
    ['Conflicts', r.conflicts === 'ours' ? 'this registry wins' : r.conflicts === 'theirs' ? 'the peer wins' : 'are told'],
    ['Referrers', r.referrers === false ? 'stay where they are' : 'travel with what they refer to'],
    ...(r.next_in !== undefined ? [['Runs again', `in ${spanText(r.next_in)}`] as [string, string]] : []),
    ['Made', <><When at={r.made_at} />{r.made_by && ` by ${r.made_by}`}</>],
  ]
  return (
    <Section title="What it says">
      <Box component="dl" sx={{ m: 0, display: 'grid', gridTemplateColumns: '170px minmax(0, 1fr)', rowGap: 0.5 }}>
        {facts.map(([name, value]) => [
          <Typography key={`${name} is`} component="dt" color="textSecondary">{name}</Typography>,
          <Typography key={name} component="dd" sx={{ m: 0, overflowWrap: 'anywhere' }}>{value}</Typography>,
        ])}
      </Box>
    </Section>
  )
}
