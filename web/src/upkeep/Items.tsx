import { Box, Link, MenuItem, TextField } from '@mui/material'
import { useState } from 'react'
import { Link as Route } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import { useRows } from '../api/asking'
import { itemsOf, type Sum, type SweepItem, useItems } from '../api/runs'
import { Size } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { type Column, RowTable } from '../parts/RowTable'
import { Trouble } from '../parts/States'
import { kindName } from './Sums'

const columns: Column<SweepItem, 'order'>[] = [
  { title: '', width: '56px', cell: (i) => (i.went === undefined ? 'goes' : i.went ? 'went' : 'stayed') },
  { title: 'What', width: '150px', cell: (i) => (i.kind === 'tag' || i.kind === 'namespace' ? `${kindName(i.kind)} ${i.name}` : kindName(i.kind)) },
  { title: 'In', width: 'minmax(120px, 0.8fr)', cell: (i) => (i.repository ? <Link component={Route} to={repositoryPlace(i.repository)} tabIndex={-1}>{i.repository}</Link> : '–') },
  { title: 'Digest', width: '180px', cell: (i) => (i.digest ? <Digest digest={i.digest} tabIndex={-1} /> : '–') },
  { title: 'Size', width: '90px', number: true, cell: (i) => (i.size ? <Size bytes={i.size} /> : '–') },
  { title: 'Why', width: 'minmax(200px, 1.4fr)', from: 1000, cell: (i) => i.says },
]

// Items lists each thing that a sweep took, or would, once somebody wants to see it.
export function Items({ run, sums, label }: { run: number; sums: Sum[]; label: string }) {
  const [kind, setKind] = useState('all')
  const [each, setEach] = useState(false)
  const items = useItems(each ? run : undefined, kind === 'all' ? '' : kind)
  const { rows, paging } = useRows(items, itemsOf)
  return (
    <>
      <Box sx={{ display: 'flex', gap: 2, mt: 1.5, alignItems: 'center' }}>
        <Link component="button" underline="always" aria-expanded={each} onClick={() => setEach(!each)}>{each ? 'hide each thing' : 'list each thing'}</Link>
        {each && (
          <TextField select size="small" label="Show" value={kind} onChange={(e) => setKind(e.target.value)} sx={{ minWidth: 180 }}>
            <MenuItem value="all">everything</MenuItem>
            {[...new Set(sums.map((s) => s.kind))].map((k) => <MenuItem key={k} value={k}>{kindName(k)}</MenuItem>)}
          </TextField>
        )}
      </Box>
      {items.error && <Trouble asked="Listing each thing" error={items.error} />}
      {each && rows.length > 0 && (
        <Box sx={{ height: Math.min(420, 80 + 36 * rows.length), display: 'flex', flexDirection: 'column', mt: 1 }}>
          <RowTable label={label} columns={columns} rows={rows} rowKey={(i) => `${i.kind} ${i.repository ?? ''} ${i.digest ?? ''} ${i.name ?? ''}`} sort="order" more={paging.more} onMore={paging.onMore} />
        </Box>
      )}
    </>
  )
}
