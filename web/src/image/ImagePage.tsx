import { Box, Link, Paper, Tab, Tabs, Typography } from '@mui/material'
import { type ReactNode, useState } from 'react'
import { Link as Route } from 'react-router'
import { imagePlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { useImage } from '../api/images'
import { useService } from '../api/service'
import { may, useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { Commands } from '../parts/Commands'
import { Digest } from '../parts/Digest'
import { LayerBar, tonesOf } from '../parts/LayerBar'
import { Page } from '../parts/Page'
import { Trouble, Waiting } from '../parts/States'
import { WhyHere } from '../parts/WhyHere'
import { mono } from '../theme'
import { InPart } from './InPart'
import { Path } from './Path'
import { RemoveImage } from './RemoveImage'
import { RawDocument } from './RawDocument'
import { imageTools } from './tools'

type Image = Schemas['Image']
type PlatformImage = Schemas['PlatformImage']

const what = (i: Image) => (i.media_type.includes('index') || i.media_type.includes('list') ? 'Index' : i.platforms[0]?.run ? 'Image' : 'Artifact')

export function ImagePage({ repository, reference }: { repository: string; reference: string }) {
  const image = useImage(repository, reference)
  const service = useService()
  const isDigest = reference.includes(':')
  const title = isDigest ? `${repository}@${reference.slice(0, 19)}…` : `${repository}:${reference}`
  const me = useMe()
  const removes = may(me.data, 'delete', repository)
  return (
    <Page title={title} over={<Path repository={repository} inside />} do={removes && image.data && <RemoveImage repository={repository} digest={image.data.digest} />}>
      {image.isPending && <Waiting />}
      {image.error && <Trouble asked={`Opening ${reference}`} error={image.error} again={() => void image.refetch()} />}
      {image.data && (
        <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 2 }}>
          <Facts image={image.data} />
          <PlatformsAndRaw image={image.data} />
          <Commands
            title="Use it"
            tools={imageTools({ address: service.data?.address ?? '', tls: service.data?.tls ?? false }, repository, isDigest ? undefined : reference, image.data.digest)}
          />
        </Box>
      )}
    </Page>
  )
}

function Facts({ image }: { image: Image }) {
  return (
    <Paper sx={{ px: 2, py: 1.5, display: 'flex', flexWrap: 'wrap', columnGap: 4, rowGap: 0.5, alignItems: 'baseline' }}>
      <Fact name={`${what(image)} digest`}><Digest digest={image.digest} /> <WhyHere digest={image.digest} /></Fact>
      <Fact name="Size"><Size bytes={image.content_size} /></Fact>
      {!!image.missing && <Fact name="Here"><Box component="span" sx={{ ml: -1 }}><InPart of="this image" missing={image.missing} /></Box></Fact>}
      <Fact name="Pushed"><When at={image.pushed_at} />{image.pushed_by && ` by ${image.pushed_by}`}</Fact>
      <Fact name="Pulled"><When at={image.pulled_at} />{image.pulls > 0 && ` · ${image.pulls.toLocaleString('en')} pulls`}</Fact>
      <Fact name="Tags">
        {image.tags.length === 0 && <Typography component="span" color="textSecondary">none</Typography>}
        {image.tags.map((t, i) => (
          <span key={t}>
            {i > 0 && ', '}
            <Link component={Route} to={imagePlace(image.repository, t)}>{t}</Link>
          </span>
        ))}
      </Fact>
    </Paper>
  )
}

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box sx={{ minWidth: 0 }}>
      <Typography variant="body2" color="textSecondary">{name}</Typography>
      <Box sx={{ overflowWrap: 'anywhere' }}>{children}</Box>
    </Box>
  )
}

function PlatformsAndRaw({ image }: { image: Image }) {
  const [shown, setShown] = useState(0)
  const notes = Object.entries(image.annotations)
  return (
    <Paper sx={{ px: 2, pb: 2 }}>
      <Tabs value={shown} onChange={(_, at: number) => setShown(at)} aria-label="Parts of the image" sx={{ mb: 1.5, borderBottom: 1, borderColor: 'divider' }}>
        <Tab label={image.platforms.length === 1 ? 'Layers' : `Platforms (${image.platforms.length})`} />
        <Tab label="Runs as" />
        <Tab label={`Annotations (${notes.length})`} />
        <Tab label="Manifest" />
      </Tabs>
      {shown === 0 && <Layers image={image} />}
      {shown === 1 && <RunsAs image={image} />}
      {shown === 2 && <Pairs pairs={notes} none="The document carries no annotations." />}
      {shown === 3 && <RawDocument raw={image.raw} mediaType={image.media_type} />}
    </Paper>
  )
}

function platformName(p: PlatformImage): string {
  return p.platform || 'no platform said'
}

function Layers({ image }: { image: Image }) {
  const [open, setOpen] = useState(0)
  const most = Math.max(...image.platforms.map((p) => p.layers.reduce((sum, l) => sum + l.size, 0)), 1)
  const shown = image.platforms[open]
  return (
    <>
      <Box sx={{ display: 'grid', gridTemplateColumns: 'max-content max-content max-content minmax(0, 1fr)', columnGap: 3, rowGap: 1, alignItems: 'center' }}>
        {image.platforms.map((p, i) => (
          <Box key={p.digest + i} sx={{ display: 'contents' }}>
            {image.platforms.length > 1 ? (
              <Link component="button" onClick={() => setOpen(i)} aria-pressed={i === open} color={i === open ? 'primary' : 'textPrimary'} sx={{ fontWeight: i === open ? 600 : 400, textAlign: 'left' }}>
                {platformName(p)}
              </Link>
            ) : (
              <span>{platformName(p)}</span>
            )}
            <span><Digest digest={p.digest} /><InPart of={platformName(p)} missing={p.missing} />{image.platforms.length > 1 && <> <WhyHere digest={p.digest} /></>}</span>
            <Box sx={{ textAlign: 'right' }}><Size bytes={p.content_size} /></Box>
            <LayerBar layers={p.layers} most={most} />
          </Box>
        ))}
      </Box>
      {shown && <LayerList of={shown} />}
    </>
  )
}

function LayerList({ of: p }: { of: PlatformImage }) {
  const tones = tonesOf(p.layers)
  return (
    <Box component="table" sx={{ width: '100%', borderCollapse: 'collapse', mt: 2, '& th': { fontWeight: 400, textAlign: 'left', color: 'text.secondary', fontSize: '0.8125rem' }, '& td, & th': { py: 0.5, pr: 2, borderBottom: 1, borderColor: 'divider', verticalAlign: 'baseline' } }}>
      <thead>
        <tr>
          <th scope="col">Layer of {platformName(p)}</th>
          <Box component="th" scope="col" sx={{ textAlign: 'right !important' }}>Size</Box>
          <th scope="col">Made by</th>
          <th scope="col">Held by</th>
        </tr>
      </thead>
      <tbody>
        {p.layers.map((l, i) => (
          <tr key={l.digest + i}>
            <td>
              <Box component="span" aria-hidden sx={{ display: 'inline-block', width: 10, height: 10, borderRadius: '2px', mr: 1, bgcolor: tones[i] }} />
              <Digest digest={l.digest} />
            </td>
            <Box component="td" sx={{ textAlign: 'right', whiteSpace: 'nowrap' }}><Size bytes={l.size} /></Box>
            <Box component="td" sx={{ overflowWrap: 'anywhere' }}>{l.step ?? <Typography component="span" color="textSecondary">not said</Typography>}</Box>
            <Box component="td">{l.repositories > 1 ? `${l.repositories} repositories` : 'this one alone'} <WhyHere digest={l.digest} /></Box>
          </tr>
        ))}
        {p.config && (
          <tr>
            <td>
              <Box component="span" aria-hidden sx={{ display: 'inline-block', width: 10, mr: 1 }} />
              <Digest digest={p.config.digest} />
            </td>
            <Box component="td" sx={{ textAlign: 'right', whiteSpace: 'nowrap' }}><Size bytes={p.config.size} /></Box>
            <td>config</td>
            <Box component="td" sx={{ color: 'text.secondary', fontSize: '0.8125rem' }}>{p.config.media_type} <WhyHere digest={p.config.digest} /></Box>
          </tr>
        )}
      </tbody>
    </Box>
  )
}

function RunsAs({ image }: { image: Image }) {
  const p = image.platforms.find((x) => x.run)
  if (!p?.run) return <Typography color="textSecondary">It is no container image: there is nothing to run.</Typography>
  const run = p.run
  const rows: [string, string][] = [
    ['Command', [...run.entrypoint, ...run.command].join(' ') || 'not said'],
    ['User', run.user ?? 'root, as none is said'],
    ['Directory', run.directory ?? '/'],
    ['Ports', run.ports.join(', ') || 'none'],
    ['Volumes', run.volumes.join(', ') || 'none'],
    ['Stop signal', run.stop_signal ?? 'SIGTERM, as none is said'],
  ]
  return (
    <>
      <Pairs pairs={rows} none="" />
      <Typography variant="h3" sx={{ mt: 2, mb: 0.5 }}>Environment</Typography>
      <Pairs pairs={run.env.map((e): [string, string] => [e.slice(0, e.indexOf('=')), e.slice(e.indexOf('=') + 1)])} none="No variables are set." />
      <Typography variant="h3" sx={{ mt: 2, mb: 0.5 }}>Labels</Typography>
      <Pairs pairs={Object.entries(run.labels)} none="No labels are set." />
      {image.platforms.length > 1 && (
        <Typography variant="body2" color="textSecondary" sx={{ mt: 1.5 }}>As the config of {platformName(p)} says.</Typography>
      )}
    </>
  )
}

function Pairs({ pairs, none }: { pairs: [string, string][]; none: string }) {
  if (pairs.length === 0) return <Typography color="textSecondary">{none}</Typography>
  return (
    <Box component="dl" sx={{ m: 0, display: 'grid', gridTemplateColumns: 'max-content minmax(0, 1fr)', columnGap: 3, rowGap: 0.5 }}>
      {pairs.map(([name, value]) => (
        <Box key={name} sx={{ display: 'contents' }}>
          <Typography component="dt" color="textSecondary">{name}</Typography>
          <Box component="dd" sx={{ m: 0, fontFamily: mono, fontSize: '0.8125rem', overflowWrap: 'anywhere', alignSelf: 'center' }}>{value}</Box>
        </Box>
      ))}
    </Box>
  )
}
