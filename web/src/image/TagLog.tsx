import { Box, Button, Link, Typography } from '@mui/material'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace } from '../api/addresses'
import { useRows } from '../api/asking'
import { movesOf, type TagMove, useChangeTags, useTagLog } from '../api/tags'
import { When } from '../parts/Amounts'
import { Digest, shorten } from '../parts/Digest'
import { Filter } from '../parts/Filter'
import { Ask } from '../parts/Forms'
import { Empty, Trouble, Waiting } from '../parts/States'

const how: Record<string, string> = { push: 'pushed', hand: 'by hand', undo: 'by undoing a removal' }

// TagLog is what tags pointed to, as a line through time: the newest at the top, each
// digest with its strip, so that the same one is seen again.
export function TagLog({ repository, role }: { repository: string; role: string }) {
  const [asked, ask] = useSearchParams()
  const tag = asked.get('tag') ?? ''
  const log = useTagLog(repository, tag)
  const { rows, paging } = useRows(log, movesOf)
  const mayMove = role === 'curator' || role === 'owner'
  const now = new Map<string, TagMove>()
  for (const m of rows) if (!now.has(m.tag)) now.set(m.tag, m)
  return (
    <>
      <Box sx={{ display: 'flex', mb: 1.5, alignItems: 'center' }}>
        <Typography color="textSecondary">{tag === '' ? 'What all tags here pointed to, also those that are gone' : `What ${tag} pointed to`}</Typography>
        <Filter
          label="Only the tag …" value={tag}
          onChange={(to) => ask((old) => {
            const params = new URLSearchParams(old)
            if (to === '') params.delete('tag')
            else params.set('tag', to)
            return params
          }, { replace: true })}
        />
      </Box>
      {log.isPending && <Waiting />}
      {log.error && <Trouble asked="Reading the tag log" error={log.error} again={() => void log.refetch()} />}
      {log.data && rows.length === 0 && <Empty>{tag === '' ? 'No tag was ever here.' : `${tag} never was a tag here.`}</Empty>}
      <Box component="ol" aria-label="Tag log" sx={{ listStyle: 'none', m: 0, p: 0, pl: 2 }}>
        {rows.map((m) => (
          <Box
            key={m.id} component="li"
            sx={{
              position: 'relative', pl: 3, pb: 0.75, borderLeft: 2, borderColor: 'divider',
              '&::before': { content: '""', position: 'absolute', left: -7, top: 6, width: 12, height: 12, borderRadius: '50%', border: 2, borderColor: m.until || !m.to ? 'divider' : 'primary.main', bgcolor: m.until || !m.to ? 'background.default' : 'primary.main' },
            }}
          >
            <Box sx={{ display: 'grid', gridTemplateColumns: '150px minmax(110px, 190px) 190px minmax(0, 1fr) max-content', columnGap: 2, alignItems: 'baseline', minHeight: 32 }}>
              <span><When at={m.at} /></span>
              <Link component={Route} to={m.to && m.there ? imagePlace(repository, m.to) : `/r/${repository}?show=log&tag=${encodeURIComponent(m.tag)}`} color="textPrimary" sx={{ overflowWrap: 'anywhere', fontWeight: m.until ? 400 : 600 }}>{m.tag}</Link>
              <span>{m.to ? <Digest digest={m.to} /> : <Typography component="span" color="textSecondary">removed</Typography>}</span>
              <Typography component="span" variant="body2" color="textSecondary" sx={{ overflowWrap: 'anywhere' }}>
                {how[m.origin] ?? `from ${m.origin}`}{m.by && ` by ${m.by}`}{m.token && ` (${m.token})`}
                {m.to && (m.until ? <> · until <When at={m.until} /></> : ' · still')}
                {m.to && !m.there && ' · its content is gone'}
              </Typography>
              <span>{mayMove && m.there && m.to && now.get(m.tag)?.to !== m.to && <PutBack repository={repository} line={m} now={now.get(m.tag)?.to} />}</span>
            </Box>
          </Box>
        ))}
      </Box>
      {paging.more && <Button size="small" variant="outlined" onClick={paging.onMore} sx={{ mt: 1 }}>Show older ones</Button>}
    </>
  )
}

// PutBack points a tag at what it pointed to at a line of its log.
function PutBack({ repository, line, now }: { repository: string; line: TagMove; now?: string | undefined }) {
  const change = useChangeTags(repository)
  return (
    <Ask
      name="Put back" label={`Put back ${line.tag}, to ${shorten(line.to!)}`} question={`Put ${line.tag} back to ${shorten(line.to!)}?`} action="Put it back" busy={change.isPending} error={change.error}
      consequence={now ? `It points to ${shorten(now)} now; that image stays. Where somebody moves the tag meanwhile, nothing is changed.` : 'The tag is gone now, and is made again.'}
      onDo={(close) => change.mutate({ changes: [now ? { act: 'move', tag: line.tag, to: line.to!, if: now } : { act: 'add', tag: line.tag, to: line.to! }] }, { onSuccess: close })}
    />
  )
}
