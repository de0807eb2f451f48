import { Box, Breadcrumbs, Button, LinearProgress, Link, Paper, Typography } from '@mui/material'
import { lazy, type ReactNode, Suspense } from 'react'
import { Link as Route } from 'react-router'
import { imagePlace, repositoryPlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { useImage } from '../api/images'
import { useRetention } from '../api/retention'
import { useSweep } from '../api/runs'
import { type Usage, type UsageChild, useGrowth, useTraffic, useUsage } from '../api/usage'
import { Size, sizeText } from '../parts/Amounts'
import { shorten } from '../parts/Digest'
import { Said, Section } from '../parts/Forms'
import { PlainTable } from '../parts/PlainTable'
import { type Column, RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'
import { type Part, Picture } from './Picture'

const Growth = lazy(() => import('./Growth'))

const storagePlace = (place: string, image?: string) => `/storage?place=${encodeURIComponent(place)}${image ? `&image=${encodeURIComponent(image)}` : ''}`

export const money = (cost: Schemas['Cost'] | undefined) => (cost ? `${(cost.storage + cost.out).toLocaleString('en', { minimumFractionDigits: 2, maximumFractionDigits: 2 })} ${cost.currency}` : '')

const nameOf = (c: UsageChild) => (c.kind === 'image' ? (c.names && c.names.length > 0 ? c.names.slice(0, 2).join(', ') + (c.names.length > 2 ? ' …' : '') : `${shorten(c.digest!)} (no tag)`) : c.name!)

const placeOf = (c: UsageChild, place: string) => (c.kind === 'image' ? storagePlace(place, c.digest!) : storagePlace(c.name!))

// UsageOf answers what holds the space in a place, what that costs, and what could be freed by
// which step.
export function UsageOf({ place, image }: { place: string; image: string }) {
  const usage = useUsage(place)
  if (usage.isPending) return <Section title="What holds the space"><Waiting /></Section>
  if (usage.error) return <Trouble asked={`Looking at what ${place || 'the registry'} holds`} error={usage.error} again={() => void usage.refetch()} />
  const u = usage.data
  return (
    <>
      <Quotas usage={u} />
      <Section title={image ? 'What holds the space in this image' : 'What holds the space'} beside={<Way place={place} image={image} />}>
        <Amounts usage={u} />
        {image ? <Layers place={place} image={image} /> : (
          <Picture
            label="What holds the space: areas by what each alone holds"
            parts={u.children.map((c): Part => ({
              key: c.digest ?? c.name!, name: nameOf(c), own: c.own, seen: c.seen, to: placeOf(c, place),
              about: `${c.images.toLocaleString('en')} ${c.images === 1 ? 'manifest' : 'manifests'}`,
            }))}
          />
        )}
        {!image && <Children usage={u} place={place} />}
      </Section>
      {!image && <Freeing usage={u} place={place} />}
      {!image && <Grew place={place} />}
      {!image && !place.includes('/') && <Passed place={place} />}
    </>
  )
}

// Way leads back out of what one walked into.
function Way({ place, image }: { place: string; image: string }) {
  const parts = place === '' ? [] : place.includes('/') ? [place.split('/')[0]!, place] : [place]
  return (
    <Breadcrumbs aria-label="Where this is" sx={{ fontSize: '0.9375rem' }}>
      {place === '' ? <span>the registry</span> : <Link component={Route} to="/storage" underline="always">the registry</Link>}
      {parts.map((p, i) => (i === parts.length - 1 && !image ? <span key={p}>{p}</span> : <Link key={p} component={Route} to={storagePlace(p)} underline="always">{p}</Link>))}
      {image && <span>{shorten(image)}</span>}
    </Breadcrumbs>
  )
}

function Quotas({ usage: u }: { usage: Usage }) {
  if (u.quotas.length === 0) return null
  return (
    <Paper sx={{ px: 2, py: 1.25, mb: 2, display: 'grid', gridTemplateColumns: 'repeat(auto-fill, minmax(300px, 1fr))', columnGap: 4, rowGap: 1 }} component="section" aria-label="Quotas">
      {u.quotas.slice(0, 9).map((q) => {
        const full = q.used / q.quota
        const unit = (n: number) => (q.of === 'repository' ? `${n.toLocaleString('en')} tags` : sizeText(n))
        return (
          <Box key={q.of + q.name}>
            <Box sx={{ display: 'flex', gap: 1 }}>
              <Typography sx={{ flex: 1, overflowWrap: 'anywhere' }}>{q.of} {q.name}</Typography>
              <Typography color={full >= 0.8 ? 'warning.main' : 'textPrimary'}>{unit(q.used)} of {unit(q.quota)}</Typography>
            </Box>
            <LinearProgress variant="determinate" value={Math.min(100, full * 100)} color={full >= 0.8 ? 'warning' : 'primary'} aria-label={`Used of the quota of ${q.name}`} />
          </Box>
        )
      })}
      {u.quotas.length > 9 && <Typography color="textSecondary">and {u.quotas.length - 9} more, which hold less of theirs; warthesis quota list {location.host} tells all</Typography>}
    </Paper>
  )
}

function Amounts({ usage: u }: { usage: Usage }) {
  const amounts: [string, string, string][] = [
    ['As seen', sizeText(u.seen), 'What readers see there, each content once.'],
    ['Its own', sizeText(u.own), 'What nothing else holds.'],
    ['Waits', sizeText(u.waiting), 'What only waits for restore windows.'],
    ...(u.cost ? [['Costs a month', money(u.cost), `${u.cost.storage.toFixed(2)} to hold, ${u.cost.out.toFixed(2)} for what went out within 30 days.`] as [string, string, string]] : []),
    ...(u.parts ?? []).map((p): [string, string, string] => [{ content: 'Files of content', records: 'Records', uploads: 'Uploads', derived: 'Derived files' }[p.part], sizeText(p.bytes), 'On the disk.']),
  ]
  return (
    <Box sx={{ display: 'flex', columnGap: 4, rowGap: 0.5, flexWrap: 'wrap', mb: 1 }}>
      {amounts.map(([name, amount, about]) => (
        <Box key={name} title={about}>
          <Typography variant="body2" color="textSecondary">{name}</Typography>
          <Typography>{amount}</Typography>
        </Box>
      ))}
    </Box>
  )
}

function Children({ usage: u, place }: { usage: Usage; place: string }) {
  const images = place.includes('/')
  const amount = (title: string, of: (c: UsageChild) => ReactNode, width = '90px'): Column<UsageChild, 'own'> => ({ title, width, number: true, cell: of })
  return (
    <>
      <Box sx={{ mt: 1.5, height: Math.min(360, 40 + 36 * Math.max(1, u.children.length)), display: 'flex', flexDirection: 'column' }}>
        <RowTable
          label="The same as a list" rows={u.children} rowKey={(c) => c.digest ?? c.name!} sort="own" place={(c) => placeOf(c, place)}
          columns={[
            { title: images ? 'Image' : place ? 'Repository' : 'Namespace', width: 'minmax(0, 1fr)', cell: (c) => <Link component={Route} underline="always" tabIndex={-1} to={placeOf(c, place)}>{nameOf(c)}</Link> },
            amount('Its own', (c) => <Size bytes={c.own} />),
            amount('As seen', (c) => <Size bytes={c.seen} />),
            ...(images ? [] : [amount('Waits', (c) => <Size bytes={c.waiting} />)]),
            amount('Images', (c) => c.images.toLocaleString('en')),
            amount('Tags', (c) => c.tags.toLocaleString('en')),
            ...(u.children.some((c) => c.cost) ? [amount('Costs a month', (c) => money(c.cost), '110px')] : []),
          ]}
        />
      </Box>
      {u.more && <Typography color="textSecondary" sx={{ mt: 1 }}>These are the {u.children.length.toLocaleString('en')} that hold the most of their own; the sums above count all.</Typography>}
      {u.shared.length > 0 && <Typography color="textSecondary" sx={{ mt: 1 }}>Of the same content: {u.shared.slice(0, 5).map((s) => `${s.name} ${sizeText(s.bytes)}`).join(' · ')}{u.shared.length > 5 && ' …'}</Typography>}
    </>
  )
}

// Layers shows what one image is made of.
function Layers({ place, image }: { place: string; image: string }) {
  const found = useImage(place, image)
  if (found.isPending) return <Waiting />
  if (found.error) return <Trouble asked="Looking at the image" error={found.error} />
  const parts = found.data.platforms.flatMap((p) => p.layers.map((l): Part => ({
    key: p.digest + l.digest, name: shorten(l.digest), own: l.size, seen: l.size, about: `${p.platform ?? ''} ${l.step ?? 'layer'}${l.repositories > 1 ? `; ${l.repositories} repositories hold it` : ''}`,
  })))
  const once = [...new Map(parts.map((p) => [p.name, p])).values()]
  return (
    <>
      <Picture label="The layers of the image, by size" parts={once} />
      <Typography sx={{ mt: 1 }}><Link component={Route} underline="always" to={imagePlace(place, image)}>The image, with its layers and steps</Link> · <Link component={Route} underline="always" to={repositoryPlace(place)}>its repository</Link></Typography>
    </>
  )
}

// Freeing says what could be freed, and by which step.
function Freeing({ usage: u, place }: { usage: Usage; place: string }) {
  const rules = useRetention(place ? { place } : {}, true)
  const sweep = useSweep()
  const later = rules.data?.days.reduce((sum, d) => sum + d.bytes, 0) ?? 0
  const rows = [
    { step: 'By retention rules, within 14 days', bytes: rules.data ? later : undefined, do: <Link component={Route} underline="always" to={`/retention${place ? `?place=${place}` : ''}`}>what goes, and why</Link> },
    { step: 'When restore windows are over, or ended early', bytes: u.waiting, do: <Link component={Route} underline="always" to={`/removed${place ? `?in=${place}` : ''}`}>what waits</Link> },
    ...(place ? [{ step: 'By a sweep, now', bytes: u.free, do: <Button size="small" variant="outlined" disabled={sweep.isPending} onClick={() => sweep.mutate({ place })}>{sweep.isSuccess ? 'Asked for' : 'Sweep'}</Button> }] : []),
  ]
  return (
    <Section title="What can be freed, and by which step">
      <PlainTable
        label="What can be freed" rows={rows} rowKey={(r) => r.step}
        columns={[{ title: 'Step', cell: (r) => r.step }, { title: 'Frees', number: true, width: 110, cell: (r) => (r.bytes === undefined ? (rules.error ? 'not told' : '…') : <Size bytes={r.bytes} />) }, { title: '', width: 200, cell: (r) => r.do }]}
      />
      <Said error={sweep.error} />
    </Section>
  )
}

function Grew({ place }: { place: string }) {
  const growth = useGrowth(place, true)
  return (
    <Section title="How it grew">
      {growth.isPending && <Waiting />}
      {growth.error && <Typography color="textSecondary">{growth.error.message}</Typography>}
      {growth.data && growth.data.samples.length === 0 && <Typography color="textSecondary">There is no sample yet; one is taken each night.</Typography>}
      {growth.data && growth.data.samples.length > 0 && <Suspense fallback={<Waiting />}><Growth samples={growth.data.samples} /></Suspense>}
    </Section>
  )
}

// Passed tells what went in and out within 30 days, and for whom.
function Passed({ place }: { place: string }) {
  const accounts = useTraffic(place, 'account', true)
  const namespaces = useTraffic(place, 'namespace', place === '')
  if (accounts.error) return null
  const table = (label: string, first: string, lines: Schemas['TrafficLine'][] | undefined) =>
    lines && lines.length > 0 && (
      <PlainTable
        label={label} rows={lines.slice(0, 12)} rowKey={(l) => l.name ?? ''}
        columns={[
          { title: first, cell: (l) => l.name ?? 'without a login' }, { title: 'Pulls', number: true, cell: (l) => l.pulls.toLocaleString('en') }, { title: 'Out', number: true, cell: (l) => <Size bytes={l.bytes_out} /> },
          { title: 'Pushes', number: true, cell: (l) => l.pushes.toLocaleString('en') }, { title: 'In', number: true, cell: (l) => <Size bytes={l.bytes_in} /> },
        ]}
      />
    )
  return (
    <Section title="What went in and out within 30 days">
      {accounts.isPending && <Waiting />}
      {accounts.data?.lines.length === 0 && <Typography color="textSecondary">Nothing.</Typography>}
      <Box sx={{ display: 'grid', gridTemplateColumns: place === '' ? '1fr 1fr' : '1fr', columnGap: 5, alignItems: 'start' }}>
        {place === '' && table('By namespace', 'Namespace', namespaces.data?.lines)}
        {table('By account', 'Account', accounts.data?.lines)}
      </Box>
    </Section>
  )
}
