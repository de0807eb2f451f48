import { Box, LinearProgress, Link, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route } from 'react-router'
import { type Arrival, useArrivals } from '../api/carried'
import { Size, When } from '../parts/Amounts'
import { Section } from '../parts/Forms'
import { PlainTable } from '../parts/PlainTable'
import { Trouble } from '../parts/States'
import { spanText } from './words'

// kinds say what is carried in.
export const kinds: Record<string, string> = { copy: 'Copy', parcel: 'Parcel', import: 'Import' }

// Progress draws how far something is, beside its figures.
export function Progress({ of: a }: { of: Arrival }) {
  const share = a.bytes > 0 ? a.bytes_done / a.bytes : a.images > 0 ? a.images_done / a.images : 0
  return (
    <>
      {!a.ended_at && <LinearProgress variant="determinate" aria-label={`How far ${a.name} is`} value={Math.min(100, 100 * share)} sx={{ my: 0.5, maxWidth: 220, borderRadius: 1 }} />}
      {a.images_done.toLocaleString('en')} of {a.images.toLocaleString('en')} images, <Size bytes={a.bytes_done} /> of <Size bytes={a.bytes} />
    </>
  )
}

// Stands says in words how something that is carried in stands.
export function Stands({ of: a }: { of: Arrival }) {
  const bad = a.state === 'failed' || a.lacks > 0
  const words = a.state === 'going' && a.ends_in !== undefined ? `going, about ${spanText(a.ends_in)} left` : a.state === 'waiting' ? 'waits for the rest' : a.state
  return <Typography component="span" color={bad ? 'error' : undefined} title={a.says}>{words}{a.lacks > 0 && `, ${a.lacks.toLocaleString('en')} lack`}</Typography>
}

// CarriedIn lists copies, parcels and imports: those under way, and the last that ended.
export function CarriedIn() {
  const list = useArrivals()
  const [all, showAll] = useState(false)
  const few = 8
  const rows = list.data?.arrivals ?? []
  const shown = all ? rows : rows.filter((a, i) => !a.ended_at || i < few)
  return (
    <Section title="Carried in by list">
      {list.error && <Trouble asked="Listing what is carried in" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && <Typography color="textSecondary">Nothing yet. Copies of packing lists, parcels and imports show here while they come, and what came of them.</Typography>}
      {rows.length > 0 && (
        <PlainTable
          label="Carried in by list" rows={shown} rowKey={(a) => a.id}
          columns={[
            { title: 'What', cell: (a) => <>{kinds[a.kind] ?? a.kind} <Link component={Route} to={`/carried/${a.id}`} underline="always">{a.name}</Link></> },
            { title: 'How far', cell: (a) => <Progress of={a} /> },
            { title: 'State', cell: (a) => <Stands of={a} /> },
            { title: 'By', cell: (a) => a.by },
            { title: 'Last heard of', width: 130, cell: (a) => <When at={a.heard_at} /> },
          ]}
        />
      )}
      {rows.length > shown.length && (
        <Box sx={{ mt: 1 }}><Link component="button" onClick={() => showAll(true)} underline="always">Show all {rows.length.toLocaleString('en')}</Link></Box>
      )}
    </Section>
  )
}
