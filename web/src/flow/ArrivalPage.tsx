import { Box, Link, TextField, Typography } from '@mui/material'
import { useMemo, useState } from 'react'
import { Link as Route, useParams } from 'react-router'
import { type Arrival, type CopiedImage, useArrival, useStopArrival } from '../api/carried'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Ask, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'
import { Why } from '../parts/Why'
import { kinds, Progress, Stands } from './CarriedIn'
import { spanText } from './words'

// ArrivalPage shows one thing that is carried in: how far it is, and what became of each image.
export function ArrivalPage() {
  const { id = '' } = useParams()
  const arrival = useArrival(Number(id))
  const a = arrival.data
  return (
    <Page title={a ? `${kinds[a.kind] ?? a.kind} ${a.name}` : 'Carried in'} over={<Link component={Route} to="/flow" underline="always">Flow</Link>} beside={a && <Stands of={a} />} do={a && !a.ended_at && <Stop of={a} />}>
      {arrival.isPending && <Waiting />}
      {arrival.error && <Trouble asked="Looking at what is carried in" error={arrival.error} again={() => void arrival.refetch()} />}
      {a && (
        <>
          <Facts of={a} />
          {a.kind === 'import' && <Typography>What came of each repository stands with <Link component={Route} to={`/import/${a.name}`} underline="always">the import {a.name}</Link>.</Typography>}
          {a.report && <Images images={a.report.images} />}
          {!a.report && a.kind !== 'import' && <Typography color="textSecondary">What became of each image is told when it ends, or stops for a while.</Typography>}
        </>
      )}
    </Page>
  )
}

function Stop({ of: a }: { of: Arrival }) {
  const stop = useStopArrival()
  return (
    <Ask
      name="Wait no longer" question={`Wait no longer for ${a.name}?`} action="Wait no longer" busy={stop.isPending} error={stop.error}
      consequence="Images that are whole stay. What came of others goes with a later sweep; carried in again it comes back."
      onDo={(close) => stop.mutate(a.id, { onSuccess: close })}
    />
  )
}

function Facts({ of: a }: { of: Arrival }) {
  return (
    <Box sx={{ mb: 2 }}>
      <Progress of={a} />
      <Typography>{a.says}</Typography>
      <Typography color="textSecondary">
        By {a.by}, begun <When at={a.began_at} />, last heard of <When at={a.heard_at} />{a.ended_at && <>, ended <When at={a.ended_at} /></>}
        {a.rate ? <>, <Size bytes={a.rate} /> a second</> : null}
      </Typography>
      {!a.ended_at && a.held_for !== undefined && (
        <Typography color="textSecondary">What came is kept from sweeps until all of its image is there: for about {spanText(a.held_for)} more if nothing is heard meanwhile{a.places && `, in ${a.places.length.toLocaleString('en')} repositories`}.</Typography>
      )}
    </Box>
  )
}

function Images({ images }: { images: CopiedImage[] }) {
  const [contains, setContains] = useState('')
  const rows = useMemo(() => images.filter((i) => `${i.target} ${i.state}`.includes(contains)), [images, contains])
  return (
    <Section title="Images" beside={<TextField size="small" label="Contains" value={contains} onChange={(e) => setContains(e.target.value)} sx={{ width: 220 }} />}>
      <Box sx={{ height: Math.min(520, 40 + 36 * Math.max(3, rows.length)), display: 'flex', flexDirection: 'column' }}>
        <RowTable
          label="Images" rows={rows} rowKey={(i) => i.target} sort="name" more={false} onMore={() => undefined}
          columns={[
            { title: 'Image', width: 'minmax(0, 1fr)', cell: (i) => <>{i.target}{i.why && <Why of={i.target}>{i.why}{i.instead && `; there are ${i.instead.join(', ')}`}</Why>}</> },
            { title: 'State', width: '130px', cell: (i) => <Typography component="span" color={i.state === 'failed' || i.state === 'missing' ? 'error' : undefined}>{i.state}</Typography> },
            { title: 'Digest', width: '190px', cell: (i) => (i.digest ? <Digest digest={i.digest} /> : '–') },
            { title: 'Size', width: '90px', number: true, cell: (i) => <Size bytes={i.bytes} /> },
            { title: 'New', width: '90px', number: true, cell: (i) => <Size bytes={i.new} /> },
          ]}
        />
      </Box>
    </Section>
  )
}
