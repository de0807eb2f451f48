import { Box, Button, Typography } from '@mui/material'
import { useRows } from '../api/asking'
import { driftOf, isComparing, useCompare, useDrift } from '../api/replication'
import { When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Ask, Said, Section } from '../parts/Forms'
import { RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'

// Drift shows where both sides of a rule differ, as of the last comparison.
export function Drift({ name, admin }: { name: string; admin: boolean }) {
  const list = useDrift(name)
  const compare = useCompare(name)
  const { rows, paging } = useRows(list, driftOf)
  const last = list.data?.pages[0]
  const busy = compare.isPending || isComparing(last)
  return (
    <Section
      title="Drift"
      beside={admin && (
        <Box sx={{ display: 'flex', gap: 1, alignItems: 'center' }}>
          {rows.length > 0 && !busy && (
            <Ask
              name="Put it right" question="Compare both sides again, and put right what differs?" action="Put it right" busy={compare.isPending} error={compare.error}
              consequence="What is missing or different where the rule copies to is copied, whoever moved it. What is extra goes only where the rule put it there and removes."
              onDo={(close) => compare.mutate(true, { onSuccess: close })}
            />
          )}
          <Button size="small" variant="outlined" disabled={busy} onClick={() => compare.mutate(false)}>{busy ? 'Comparing …' : 'Compare both sides'}</Button>
        </Box>
      )}
    >
      <Said error={compare.error} />
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Looking for drift" error={list.error} again={() => void list.refetch()} />}
      {last && !last.run && <Typography color="textSecondary">Both sides were not compared yet. Comparing looks at each tag that the rule means, by digest.</Typography>}
      {last?.run && isComparing(last) && <Typography role="status">{last.compared.toLocaleString('en')} tags compared so far</Typography>}
      {last?.run && !isComparing(last) && (
        <Typography color={last.error ? 'error' : undefined} sx={{ mb: 1 }}>{last.error ?? last.says}{last.ended_at && <Typography component="span" color="textSecondary"> · <When at={last.ended_at} /></Typography>}</Typography>
      )}
      {rows.length > 0 && (
        <Box sx={{ height: Math.min(380, 40 + 36 * Math.max(3, rows.length)), display: 'flex', flexDirection: 'column' }}>
          <RowTable
            label="Drift" rows={rows} rowKey={(d) => `${d.repository}:${d.tag}`} sort="name" more={paging.more} onMore={paging.onMore}
            columns={[
              { title: 'Tag', width: 'minmax(0, 1fr)', cell: (d) => `${d.repository}:${d.tag}` }, { title: 'Is', width: '110px', cell: (d) => d.kind },
              { title: 'Here', width: '190px', cell: (d) => (d.here ? <Digest digest={d.here} /> : '–') }, { title: 'There', width: '190px', cell: (d) => (d.there ? <Digest digest={d.there} /> : '–') },
              { title: 'As', width: 'minmax(0, 1fr)', from: 1100, cell: (d) => d.target },
            ]}
          />
        </Box>
      )}
    </Section>
  )
}
