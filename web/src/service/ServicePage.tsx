import { Box, Button, Link, Paper, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route } from 'react-router'
import { isOpen, type Run, useRunKinds, useRuns, useScrub, useStopRun, useSweep } from '../api/runs'
import { useMe } from '../api/session'
import { useHealth } from '../api/storage'
import { Size, When } from '../parts/Amounts'
import { Damages } from '../parts/Damages'
import { DialogButton, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { progressText, RunProgress } from '../parts/RunProgress'
import { Trouble, Waiting } from '../parts/States'
import { Items } from '../upkeep/Items'
import { Sums } from '../upkeep/Sums'

// ServicePage answers whether the registry is well: its disk, its files, and the work that
// goes on beside requests.
export function ServicePage() {
  const me = useMe()
  const runs = useRuns('')
  const open = runs.data?.runs.filter(isOpen) ?? []
  const ended = runs.data?.runs.filter((r) => !isOpen(r)) ?? []
  return (
    <Page title="Service" beside={<Typography color="textSecondary">is it well, and what goes on beside requests</Typography>} do={me.data?.admin && <Starts />}>
      <Health />
      {runs.error && <Trouble asked="Listing the runs" error={runs.error} again={() => void runs.refetch()} />}
      <Section title="Goes now">
        {runs.isPending && <Waiting />}
        {runs.data && open.length === 0 && <Typography color="textSecondary">Nothing goes beside requests now.</Typography>}
        {open.map((r) => <Going key={r.id} run={r} stops={me.data?.admin ?? false} />)}
      </Section>
      <Section title="Ended">
        {runs.data && ended.length === 0 && <Typography color="textSecondary">No run has ended yet. Work that takes well under a second leaves one only where it fails.</Typography>}
        <Box component="ul" aria-label="Runs that ended" sx={{ listStyle: 'none', m: 0, p: 0 }}>
          {ended.map((r) => <Ended key={r.id} run={r} />)}
        </Box>
      </Section>
      <Kinds />
    </Page>
  )
}

function Starts() {
  const sweep = useSweep()
  const scrub = useScrub()
  return (
    <>
      <DialogButton name="Sweep now" title="Sweep now?" action="Sweep" busy={sweep.isPending} error={sweep.error} onDo={(close) => sweep.mutate({}, { onSuccess: close })}>
        <Typography>It takes what was removed and whose restore window is over, and what nothing names any more. That cannot come back. Pushes and pulls go on.</Typography>
        <Typography>The <Link component={Route} to="/storage">Storage page</Link> shows beforehand what goes.</Typography>
      </DialogButton>
      <DialogButton name="Scrub now" title="Read everything now?" action="Scrub" busy={scrub.isPending} error={scrub.error} onDo={(close) => scrub.mutate({}, { onSuccess: close })}>
        <Typography>It reads every file against its digest, beside requests. What is wrong is set aside and not served.</Typography>
      </DialogButton>
    </>
  )
}

function Health() {
  const health = useHealth()
  if (health.isPending) return <Waiting />
  if (health.error) return <Trouble asked="Looking how well it is" error={health.error} again={() => void health.refetch()} />
  const h = health.data
  const used = h.disk_size - h.disk_free
  const low = h.disk_free < 2 * h.disk_floor
  return (
    <>
      <Damages of={h} />
      <Paper component="section" aria-label="Health" sx={{ px: 2, py: 1.5, mb: 2, display: 'grid', gridTemplateColumns: 'minmax(0, 1.6fr) repeat(3, minmax(0, 1fr))', columnGap: 3, rowGap: 1 }}>
        <Box>
          <Typography variant="body2" color="textSecondary">Disk</Typography>
          <Box role="img" aria-label={`${Math.round((100 * used) / h.disk_size)} % of the disk is used`} sx={{ position: 'relative', height: 12, border: 1, borderColor: 'divider', borderRadius: 1, overflow: 'hidden', my: 0.5 }}>
            <Box sx={{ position: 'absolute', inset: 0, width: `${(100 * used) / h.disk_size}%`, bgcolor: low ? 'error.main' : 'primary.main' }} />
            <Box sx={{ position: 'absolute', top: 0, bottom: 0, right: `${(100 * h.disk_floor) / h.disk_size}%`, borderRight: 2, borderColor: 'warning.main' }} />
          </Box>
          <Typography variant="body2" color={low ? 'error' : 'textPrimary'}>
            <Size bytes={h.disk_free} /> of <Size bytes={h.disk_size} /> free; below <Size bytes={h.disk_floor} /> no upload is taken
          </Typography>
        </Box>
        <Fact name="Files">
          {h.hurt === 0 ? 'none is hurt' : <Link component={Route} to="/storage" color="error">{h.hurt.toLocaleString('en')} {h.hurt === 1 ? 'is' : 'are'} hurt</Link>}
          <Typography variant="body2" color="textSecondary">{h.files.toLocaleString('en')} files, <Size bytes={h.bytes} /></Typography>
        </Fact>
        <Fact name="Read against digests">
          {h.files === 0 ? 'there are none' : `all within ${h.read_within || 'a minute'}`}
          <Typography variant="body2" color="textSecondary">meant to be within {h.scrub_goal}</Typography>
        </Fact>
        <Fact name="Grace">
          {h.grace}
          <Typography variant="body2" color={h.short_spans ? 'warning.main' : 'textSecondary'}>{h.short_spans ? 'short windows count here: only for trying things out' : 'what was touched stays that long'}</Typography>
        </Fact>
      </Paper>
    </>
  )
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <Box>
      <Typography variant="body2" color="textSecondary">{name}</Typography>
      <Typography component="div">{children}</Typography>
    </Box>
  )
}

const nameOf = (r: Run) => (r.place ? `${r.kind} of ${r.place}` : r.kind)

function Going({ run, stops }: { run: Run; stops: boolean }) {
  const stop = useStopRun()
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: '32px minmax(0, 220px) minmax(0, 1fr) 72px', columnGap: 2, alignItems: 'center', py: 0.5 }}>
      <span>{run.id}</span>
      <Box sx={{ overflowWrap: 'anywhere' }}>
        {nameOf(run)}
        <Typography variant="body2" color="textSecondary">{run.asked_by ? `asked by ${run.asked_by}` : `by its ${run.cause}`}, <When at={run.asked_at} /></Typography>
      </Box>
      <RunProgress run={run} />
      <span>{stops && <Button size="small" onClick={() => stop.mutate(run.id)} disabled={stop.isPending} aria-label={`Stop run ${run.id}`}>Stop</Button>}</span>
      <Box sx={{ gridColumn: '1 / -1' }}><Said error={stop.error} /></Box>
    </Box>
  )
}

const took = (r: Run) => {
  if (!r.began_at || !r.ended_at) return '–'
  const seconds = (new Date(r.ended_at).getTime() - new Date(r.began_at).getTime()) / 1000
  return seconds < 90 ? `${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s` : `${Math.round(seconds / 60)} min`
}

function Ended({ run }: { run: Run }) {
  const [open, setOpen] = useState(false)
  const figures = run.sweep !== undefined || run.scrub !== undefined
  return (
    <Box component="li" sx={{ py: 0.5, borderTop: 1, borderColor: 'divider', '&:first-of-type': { borderTop: 0 } }}>
      <Box sx={{ display: 'grid', gridTemplateColumns: '32px minmax(0, 150px) 110px 56px minmax(0, 1fr) 60px', columnGap: 2, alignItems: 'baseline' }}>
        <span>{run.id}</span>
        <Box sx={{ overflowWrap: 'anywhere' }}>{nameOf(run)}</Box>
        <When at={run.ended_at} />
        <span>{took(run)}</span>
        <Typography component="span" color={run.state === 'failed' ? 'error' : 'textPrimary'} sx={{ overflowWrap: 'anywhere' }}>
          {run.state !== 'done' && `${run.state}: `}{run.error ?? run.report ?? progressText(run)}
        </Typography>
        <span>{figures && <Link component="button" underline="always" aria-expanded={open} aria-label={`Figures of run ${run.id}`} onClick={() => setOpen(!open)}>{open ? 'less' : 'figures'}</Link>}</span>
      </Box>
      {open && run.sweep && (
        <Box sx={{ pl: 8, pb: 1 }}>
          <Sums title="Went" sums={run.sweep.taken} />
          <Sums title={run.kind === 'sweep-preview' ? 'Would go' : 'Was planned to go'} sums={run.sweep.goes} />
          <Sums title="Stayed, because it changed meanwhile" sums={run.sweep.since} />
          <Sums title="Stays, though nothing needs it" sums={run.sweep.stays} />
          {run.sweep.goes.length > 0 && <Items run={run.id} sums={run.sweep.goes} label={`What run ${run.id} took`} />}
          <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>
            Planned in {run.sweep.plan_seconds.toFixed(1)} s{run.kind === 'sweep' && <>, taken in {run.sweep.take_seconds.toFixed(1)} s. {run.sweep.waited === 0 ? 'Nobody waited for it.' : `${run.sweep.waited.toLocaleString('en')} changes of others waited for it, the longest ${run.sweep.waited_longest_ms.toFixed(1)} ms (${run.sweep.waited_kind ?? ''}).`}</>}
          </Typography>
        </Box>
      )}
      {open && run.scrub && (
        <Typography sx={{ pl: 8, pb: 1 }}>
          {run.scrub.files.toLocaleString('en')} files, <Size bytes={run.scrub.bytes} />: {run.scrub.missing} missing, {run.scrub.short} of another size, {run.scrub.rotten} with other bytes, {run.scrub.unreadable} unreadable.{run.scrub.records && ` Of the records, damaged: ${run.scrub.records.join('; ')}.`}
        </Typography>
      )}
    </Box>
  )
}

function Kinds() {
  const kinds = useRunKinds()
  if (!kinds.data) return null
  return (
    <Section title="What runs by itself">
      <PlainTable
        label="What runs by itself" rows={kinds.data.kinds} rowKey={(k) => k.name}
        columns={[
          { title: 'Kind', width: 140, cell: (k) => k.name },
          { title: 'When', width: 150, cell: (k) => k.when || 'when somebody asks' },
          { title: 'Last', width: 130, cell: (k) => <When at={k.ran_at} /> },
          { title: 'What it does', cell: (k) => (k.failing ? <Typography component="span" color="error">fails: {k.failing}</Typography> : k.about) },
        ]}
      />
    </Section>
  )
}
