import { Box, Button, Checkbox, FormControlLabel, Link, Paper, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import { useRows } from '../api/asking'
import { type Removal, removalsOf, useRemoval, useRemovals, useUndo } from '../api/removals'
import { Left, Size, When } from '../parts/Amounts'
import { Digest, shorten } from '../parts/Digest'
import { Filter } from '../parts/Filter'
import { DialogButton, Field } from '../parts/Forms'
import { Page } from '../parts/Page'
import { Empty, Trouble, Waiting } from '../parts/States'

const count = (n: number, one: string, many: string) => (n === 1 ? `1 ${one}` : `${n} ${many}`)

// whatWent says what a removal took.
function whatWent(r: Removal): string {
  switch (r.kind) {
    case 'tag': return `${r.name.includes(',') ? 'tags' : 'tag'} ${r.name}`
    case 'manifest': return `image ${shorten(r.name)}${r.tags > 0 || r.images > 1 ? ` (${count(r.images, 'image', 'images')}, ${count(r.tags, 'tag', 'tags')})` : ''}`
    case 'blob': return `blob ${shorten(r.name)}`
  }
  return `${r.kind} ${r.name}`
}

// RemovedPage is the one list of removals: what went by each, until about when it can come
// back, and the way back.
export function RemovedPage() {
  const [asked, ask] = useSearchParams()
  const place = asked.get('in') ?? ''
  const undone = asked.get('undone') !== null
  const list = useRemovals(place, undone)
  const { rows, paging } = useRows(list, removalsOf)
  const set = (key: string, value: string) =>
    ask((old) => {
      const params = new URLSearchParams(old)
      if (value === '') params.delete(key)
      else params.set(key, value)
      return params
    }, { replace: true })
  return (
    <Page title={place === '' ? 'Removed' : `Removed in ${place}`} beside={<Typography color="textSecondary">what can come back, and until about when; the time runs while the registry does</Typography>}>
      <Box sx={{ display: 'flex', mb: 1, alignItems: 'center' }}>
        <FormControlLabel label="Also what was undone" control={<Checkbox size="small" checked={undone} onChange={(e) => set('undone', e.target.checked ? 'yes' : '')} />} />
        <Filter label="In the namespace or repository …" value={place} onChange={(to) => set('in', to.trim())} />
      </Box>
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing what was removed" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && <Empty>Nothing was removed {place === '' ? 'here' : `in ${place}`} that you may bring back.</Empty>}
      {rows.length > 0 && (
        <RemovalList rows={rows} />
      )}
      {paging.more && <Button size="small" variant="outlined" onClick={paging.onMore} sx={{ mt: 1 }}>Show older ones</Button>}
    </Page>
  )
}

// RemovalList lists removals, each with the way back.
export function RemovalList({ rows }: { rows: Removal[] }) {
  const [open, setOpen] = useState<number>()
  return (
    <Paper component="ul" aria-label="Removals" sx={{ listStyle: 'none', m: 0, p: 0 }}>
      {rows.map((r, i) => (
        <Box key={r.id} component="li" sx={{ px: 2, py: 1, borderTop: i === 0 ? 0 : 1, borderColor: 'divider' }}>
          <Box sx={{ display: 'grid', gridTemplateColumns: '110px minmax(0, 1fr) 200px 64px', columnGap: 2, alignItems: 'baseline' }}>
            <When at={r.at} />
            <Box sx={{ minWidth: 0 }}>
              <Typography sx={{ overflowWrap: 'anywhere' }}>
                {whatWent(r)}
                {r.repository && r.kind !== 'repository' && <> of <Link component={Route} to={repositoryPlace(r.repository)} underline="always">{r.repository}</Link></>}
              </Typography>
              <Typography variant="body2" color="textSecondary" sx={{ overflowWrap: 'anywhere' }}>
                by {r.run ? 'a rule' : (r.by ?? 'nobody')}{r.reason && `: ${r.reason}`}
                {['tag', 'manifest'].includes(r.kind) && !r.undone_at && (
                  <> · <Link component="button" underline="always" aria-expanded={open === r.id} onClick={() => setOpen(open === r.id ? undefined : r.id)}>{open === r.id ? 'less' : 'what went'}</Link></>
                )}
              </Typography>
            </Box>
            <Typography component="span" color={r.until ? 'textPrimary' : 'textSecondary'}>
              {r.undone_at ? <>undone <When at={r.undone_at} /></> : r.until ? <>for about <Left until={r.until} /> more</> : 'the time is over'}
            </Typography>
            <span>{r.until && <UndoButton removal={r} />}</span>
          </Box>
          {open === r.id && <Went id={r.id} />}
        </Box>
      ))}
    </Paper>
  )
}

// Went is all that went by a removal.
function Went({ id }: { id: number }) {
  const removal = useRemoval(id, true)
  if (removal.isPending) return <Waiting />
  if (removal.error) return <Trouble asked="Looking at it" error={removal.error} />
  return (
    <Box component="ul" sx={{ m: 0, mt: 1, pl: 15.5, pr: 2, listStyle: 'none', display: 'grid', rowGap: 0.25 }}>
      {removal.data.tag_list.map((t) => (
        <li key={t.tag}>
          tag {t.tag} <Digest digest={t.digest} />
          {t.now && t.now !== t.digest && <Typography component="span" color="warning.main"> · the name points to {shorten(t.now)} now</Typography>}
        </li>
      ))}
      {removal.data.image_list.map((m) => (
        <li key={m.digest}>
          image <Digest digest={m.digest} /> {m.platforms.join(', ') || m.artifact_type} · <Size bytes={m.size} />
        </li>
      ))}
    </Box>
  )
}

// UndoButton brings a removal back; names that are taken meanwhile get others.
function UndoButton({ removal }: { removal: Removal }) {
  const [asking, setAsking] = useState(false)
  const contents = useRemoval(removal.id, asking)
  const undo = useUndo()
  const [names, setNames] = useState<Record<string, string>>({})
  const [name, setName] = useState('')
  const taken = contents.data?.tag_list.filter((t) => t.now && t.now !== t.digest) ?? []
  const as = Object.fromEntries(taken.map((t) => [t.tag, names[t.tag] ?? t.offer ?? '']))
  return (
    <DialogButton
      name="Undo" quiet label={`Undo the removal of ${whatWent(removal)}`} title={`Bring back ${whatWent(removal)}?`} action="Bring it back" busy={undo.isPending} error={undo.error ?? contents.error}
      ready={contents.data !== undefined && Object.values(as).every((n) => n !== '')}
      onOpen={() => {
        setAsking(true)
        undo.reset()
      }}
      onDo={(close) => undo.mutate({ id: removal.id, as, ...(name !== '' && { name }) }, { onSuccess: close })}
    >
      <Typography>All that went by it comes back, with all that it needs, or nothing does.</Typography>
      {removal.run && <Typography color="warning.main">A retention rule removed it, and takes it again with its next run, unless the tag is sealed or a rule keeps it.</Typography>}
      {taken.map((t) => (
        <Field key={t.tag} label={`Another name for ${t.tag}, which points to ${shorten(t.now!)} now`} value={as[t.tag]!} onChange={(to) => setNames({ ...names, [t.tag]: to })} />
      ))}
      {removal.kind === 'repository' && <Field label="Another name, where its own is taken" value={name} onChange={setName} hint={`${removal.namespace ?? ''}/…`} />}
    </DialogButton>
  )
}
