import { Box, Button, Link, Paper, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace } from '../api/addresses'
import { useRows } from '../api/asking'
import { isOpen, useRun, useRuns, useSweep } from '../api/runs'
import { removalsOf, useRemovals } from '../api/removals'
import { type Me, seesAll, useMe } from '../api/session'
import { type Hurt, useHealth, useHurt, useHurts } from '../api/storage'
import { Size, When } from '../parts/Amounts'
import { Damages } from '../parts/Damages'
import { Digest } from '../parts/Digest'
import { Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { RunProgress } from '../parts/RunProgress'
import { Trouble, Waiting } from '../parts/States'
import { RemovalList } from './RemovedPage'
import { Items } from './Items'
import { Sums } from './Sums'
import { UsageOf } from './UsageOf'

// StoragePage answers what holds the space, what that costs and what can be freed; of the
// registry also what can come back and until when, what the next sweep would take and why,
// and what is hurt.
export function StoragePage() {
  const [asked] = useSearchParams()
  const [place, image] = [asked.get('place') ?? '', asked.get('image') ?? '']
  const me = useMe()
  const wide = seesAll(me.data)
  return (
    <Page title={place ? `Storage of ${place}` : 'Storage'} beside={<Typography color="textSecondary">who holds what, what it costs, what can be freed</Typography>}>
      {place === '' && me.data && !wide ? <OwnPlaces me={me.data} /> : <UsageOf place={place} image={image} />}
      {place === '' && wide && <Health />}
      {place === '' && wide && <NextSweep />}
      {place === '' && wide && <HurtContent />}
      {place === '' && <Waits />}
    </Page>
  )
}

// OwnPlaces leads to the places of which somebody may see what they hold: those they push to.
function OwnPlaces({ me }: { me: Me }) {
  const places = [...new Set(me.roles.filter((r) => r.role !== 'reader').map((r) => r.place))].sort()
  return (
    <Section title="What holds the space">
      {places.length === 0 && <Typography color="textSecondary">What a namespace holds is shown to those who may push there; what the registry holds, to those with a role on it.</Typography>}
      <Box component="ul" sx={{ listStyle: 'none', m: 0, p: 0 }}>
        {places.map((p) => <li key={p}><Link component={Route} to={`/storage?place=${encodeURIComponent(p)}`} underline="always">{p}</Link></li>)}
      </Box>
    </Section>
  )
}

function Health() {
  const health = useHealth()
  if (health.error) return <Trouble asked="Looking at the storage" error={health.error} again={() => void health.refetch()} />
  if (!health.data) return null
  return (
    <>
      <Damages of={health.data} />
      <Paper sx={{ px: 2, py: 1.25, mb: 2, display: 'flex', gap: 5, flexWrap: 'wrap' }}>
        <Amount name="Content"><Size bytes={health.data.bytes} /> in {health.data.files.toLocaleString('en')} files</Amount>
        <Amount name="Unrecorded files">{health.data.strays === 0 ? 'none' : <>{health.data.strays.toLocaleString('en')}, <Size bytes={health.data.stray_bytes} /></>}</Amount>
        <Amount name="Free on the disk"><Size bytes={health.data.disk_free} /> of <Size bytes={health.data.disk_size} /></Amount>
      </Paper>
    </>
  )
}

function Amount({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <Box>
      <Typography variant="body2" color="textSecondary">{name}</Typography>
      <Typography component="div">{children}</Typography>
    </Box>
  )
}

// Waits lists what waits for its restore window, the last first.
function Waits() {
  const list = useRemovals('', false)
  const { rows } = useRows(list, removalsOf)
  const open = rows.filter((r) => r.until)
  return (
    <Section title="What can come back" beside={<Link component={Route} to="/removed">all that was removed</Link>}>
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing what was removed" error={list.error} again={() => void list.refetch()} />}
      {list.data && open.length === 0 && <Typography color="textSecondary">Nothing waits for the end of a restore window.</Typography>}
      {open.length > 0 && <RemovalList rows={open.slice(0, 8)} />}
      {open.length > 8 && <Typography color="textSecondary" sx={{ mt: 1 }}>and {open.length - 8} more</Typography>}
    </Section>
  )
}

// NextSweep is what a sweep would take now: the last preview, or one that is made now.
function NextSweep() {
  const me = useMe()
  const runs = useRuns('sweep-preview')
  const ask = useSweep()
  const last = runs.data?.runs.find((r) => !r.place)
  const run = useRun(last?.id)
  const shown = run.data ?? last
  const done = shown && !isOpen(shown) && shown.sweep ? shown : undefined
  return (
    <Section
      title="What the next sweep would take"
      beside={me.data?.admin && <Button size="small" variant="outlined" disabled={ask.isPending || isOpen(shown)} onClick={() => ask.mutate({ preview: true })}>Look now</Button>}
    >
      <Said error={ask.error} />
      {runs.isPending && <Waiting />}
      {runs.error && <Trouble asked="Looking for previews" error={runs.error} />}
      {runs.data && !last && <Typography color="textSecondary">Nobody has looked yet. Looking takes nothing.</Typography>}
      {shown && isOpen(shown) && <RunProgress run={shown} />}
      {shown?.state === 'failed' && <Typography color="error">{shown.error}</Typography>}
      {done && (
        <>
          <Typography color="textSecondary">
            As of <When at={done.ended_at} />. {done.sweep!.goes.length === 0 ? 'Nothing would go.' : 'What goes cannot come back.'}
          </Typography>
          <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr) minmax(0, 1fr)', columnGap: 4 }}>
            <Sums title="Goes" sums={done.sweep!.goes} />
            <Sums title="Stays, though nothing needs it" sums={done.sweep!.stays} />
          </Box>
          {done.sweep!.goes.length > 0 && <Items run={done.id} sums={done.sweep!.goes} label="What would go" />}
        </>
      )}
    </Section>
  )
}

const wrongs = { missing: 'the file is missing', short: 'the file has another size', rotten: 'the file has other bytes', unreadable: 'the file cannot be read' }

// HurtContent lists content whose file is not what it should be, and what that hurts.
function HurtContent() {
  const hurts = useHurts()
  const [open, setOpen] = useState('')
  if (hurts.isPending) return <Section title="Hurt content"><Waiting /></Section>
  if (hurts.error) return <Section title="Hurt content"><Trouble asked="Looking for hurt content" error={hurts.error} /></Section>
  const rows = hurts.data.hurts
  return (
    <Section title={rows.length === 0 ? 'Hurt content' : `Hurt content (${rows.length.toLocaleString('en')})`}>
      {rows.length === 0 && <Typography color="textSecondary">Every file that was read is what it should be.</Typography>}
      {rows.length > 0 && <Typography sx={{ mb: 1 }}>It is not served. A push of the same image, from where it was built, mends it.</Typography>}
      <Box component="ul" aria-label="Hurt content" sx={{ listStyle: 'none', m: 0, p: 0, maxHeight: 320, overflow: 'auto' }}>
        {rows.map((h) => (
          <Box key={h.id} component="li" sx={{ py: 0.5, borderTop: 1, borderColor: 'divider' }}>
            <Box sx={{ display: 'flex', gap: 3, alignItems: 'baseline', flexWrap: 'wrap' }}>
              <Digest digest={h.digest} />
              <Typography component="span" color="error">{wrongs[h.what]}</Typography>
              <Size bytes={h.size} />
              <span>found <When at={h.found_at} /></span>
              <Link component="button" underline="always" aria-expanded={open === h.digest} onClick={() => setOpen(open === h.digest ? '' : h.digest)}>
                {open === h.digest ? 'less' : 'what it hurts'}
              </Link>
            </Box>
            {open === h.digest && <HurtImages of={h} />}
          </Box>
        ))}
      </Box>
    </Section>
  )
}

function HurtImages({ of: h }: { of: Hurt }) {
  const detail = useHurt(h.digest, true)
  if (detail.isPending) return <Waiting />
  if (detail.error) return <Trouble asked="Looking at what it hurts" error={detail.error} />
  if (detail.data.images.length === 0) return <Typography color="textSecondary" sx={{ pl: 2 }}>No image that can be pulled has it in it.</Typography>
  return (
    <Box component="ul" sx={{ m: 0, pl: 2, listStyle: 'none' }}>
      {detail.data.images.map((m) => (
        <li key={m.repository + m.digest}>
          <Link component={Route} to={imagePlace(m.repository, m.tags[0] ?? m.digest)}>{m.repository}{m.tags.length > 0 ? `:${m.tags.join(', ')}` : ''}</Link>
          <Typography component="span" color="textSecondary"> · pulled <When at={m.pulled_at} />{m.pulled_by.length > 0 && `, in the last 30 days by ${m.pulled_by.join(', ')}`}</Typography>
        </li>
      ))}
    </Box>
  )
}
