import { Box, Link, MenuItem, TextField, Typography } from '@mui/material'
import { Link as Route, useSearchParams } from 'react-router'
import { useRows } from '../api/asking'
import { type DueItem, type DueState, itemsOf, useDue, useRunReplication } from '../api/replication'
import { When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Ask, Section } from '../parts/Forms'
import { RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'
import { Why } from '../parts/Why'
import { spanText } from './words'

const states: { value: DueState; name: string }[] = [
  { value: '', name: 'all of it' }, { value: 'due', name: 'what is due' }, { value: 'failing', name: 'what failed' }, { value: 'conflict', name: 'what is in conflict' },
  { value: 'waits', name: 'removals that can be undone yet' }, { value: 'asks', name: 'removals that wait for a word' },
]

const words: Record<DueItem['state'], string> = { due: 'due', waits: 'waits', conflict: 'conflict', asks: 'waits for a word' }

// whatOf names what is due.
export const whatOf = (d: { repository?: string; tag?: string; digest?: string }) =>
  d.tag ? `${d.repository}:${d.tag}` : d.digest ? `${d.repository}@${d.digest.slice(7, 19)}` : (d.repository ?? 'all that the rule means')

// Due lists what has to travel by a rule, and why it did not.
export function Due({ name, admin, inward }: { name: string; admin: boolean; inward: boolean }) {
  const [asked, ask] = useSearchParams()
  const state = (asked.get('show') ?? '') as DueState
  const list = useDue(name, state)
  const { rows, paging } = useRows(list, itemsOf)
  return (
    <Section
      title="What is due"
      beside={(
        <TextField select size="small" label="Show" value={state || 'all'} onChange={(e) => ask(e.target.value === 'all' ? {} : { show: e.target.value }, { replace: true })} sx={{ width: 260 }}>
          {states.map((s) => <MenuItem key={s.value} value={s.value || 'all'}>{s.name}</MenuItem>)}
        </TextField>
      )}
    >
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing what is due" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && <Typography color="textSecondary">Nothing.</Typography>}
      {rows.length > 0 && (
        <Box sx={{ height: Math.min(420, 40 + 36 * Math.max(3, rows.length)), display: 'flex', flexDirection: 'column' }}>
          <RowTable
            label="What is due" rows={rows} rowKey={(d) => String(d.id)} sort="name" more={paging.more} onMore={paging.onMore}
            columns={[
              { title: 'What', width: 'minmax(0, 1fr)', cell: (d) => (d.tag && !inward ? <Link component={Route} to={`/r/${d.repository}@:${d.tag}`} underline="always">{whatOf(d)}</Link> : whatOf(d)) },
              { title: 'State', width: '130px', cell: (d) => <>{words[d.state]}{d.error && <Why of={whatOf(d)}>{d.error}{d.again_in !== undefined && ` (tried again in ${spanText(d.again_in)})`}</Why>}</> },
              { title: 'Since', width: '110px', cell: (d) => (d.since ? <When at={d.since} /> : '–') },
              { title: 'Here', width: '165px', cell: (d) => (d.here ? <Digest digest={d.here} /> : '–') },
              { title: 'There', width: '165px', cell: (d) => (d.there ? <Digest digest={d.there} /> : '–') },
              { title: '', width: '105px', cell: (d) => admin && d.state === 'conflict' && <Settle name={name} item={d} inward={inward} /> },
            ]}
          />
        </Box>
      )}
    </Section>
  )
}

function Settle({ name, item, inward }: { name: string; item: DueItem; inward: boolean }) {
  const run = useRunReplication(name)
  const what = whatOf(item)
  return (
    <Ask
      name="Overwrite it" label={`Overwrite it: ${what}`} question={inward ? `Overwrite ${what} here?` : `Overwrite ${what} at the peer?`} action="Overwrite it" busy={run.isPending} error={run.error}
      consequence={inward ? 'It gets what the peer has. What it points to now stays in its tag log.' : 'It gets what this registry has. What it points to now stays in the tag log there, where it keeps one.'}
      onDo={(close) => run.mutate({ settle: what }, { onSuccess: close })}
    />
  )
}
