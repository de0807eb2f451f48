import { Box, Button, ButtonBase, Link, Typography } from '@mui/material'
import { useMemo, useState } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace } from '../api/addresses'
import { useRows } from '../api/asking'
import { type Tag, type TagSort, tagsOf, type TagView, useTags } from '../api/tags'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Filter } from '../parts/Filter'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { InPart } from './InPart'
import { PushAndPull } from './PushAndPull'
import { RemoveTags } from './RemoveTags'
import { SealMark } from './SealMark'
import { TagMenu } from './TagMenu'

// isPattern tells a pattern from a text that is looked for in names.
const isPattern = (text: string) => text.includes('*') || text.includes('<')

// useTagView keeps order and filter in the address, so that they can be sent.
function useTagView() {
  const [asked, ask] = useSearchParams()
  const only = asked.get('only') ?? ''
  const view: TagView = { sort: (asked.get('sort') as TagSort | null) ?? 'change', contains: isPattern(only) ? '' : only, pattern: isPattern(only) ? only : '' }
  const change = (to: { sort?: TagSort; only?: string }) =>
    ask(
      (old) => {
        const params = new URLSearchParams(old)
        for (const [key, value] of Object.entries(to)) {
          if (value === '' || value === 'change') params.delete(key)
          else params.set(key, value)
        }
        return params
      },
      { replace: true },
    )
  return { view, only, change }
}

const columnsOf = (repository: string, role: string): Column<Tag, TagSort>[] => [
  {
    title: 'Tag', width: 'minmax(110px, 1fr)', sort: 'name',
    cell: (t) => (
      <>
        <Link component={Route} to={imagePlace(repository, t.name)} tabIndex={-1} color="textPrimary">
          {t.name}
        </Link>
        <InPart of={t.name} missing={t.missing} tabIndex={-1} />
      </>
    ),
  },
  { title: 'Sealed', width: '84px', cell: (t) => <SealMark repository={repository} tag={t.name} seal={t.seal} /> },
  { title: 'Digest', width: '176px', cell: (t) => <Digest digest={t.digest} tabIndex={-1} /> },
  { title: 'Size', width: '76px', number: true, from: 1000, cell: (t) => <Size bytes={t.size} /> },
  { title: 'Runs on', width: 'minmax(100px, 1fr)', from: 1400, cell: (t) => t.platforms.join(', ') || <Typography component="span" variant="body2" color="textSecondary">{t.artifact_type ?? 'not said'}</Typography> },
  { title: 'Moved', width: '108px', sort: 'change', cell: (t) => <When at={t.moved_at} /> },
  { title: 'By', width: '96px', from: 1120, cell: (t) => t.moved_by ?? <Typography component="span" color="textSecondary">nobody</Typography> },
  { title: 'Pulled', width: '104px', from: 1240, cell: (t) => <When at={t.pulled_at} /> },
  { title: 'Do', width: '44px', cell: (t) => <TagMenu repository={repository} tag={t} role={role} /> },
]

const orders: { sort: TagSort; name: string }[] = [
  { sort: 'change', name: 'last moved' },
  { sort: 'version', name: 'newest version' },
  { sort: 'name', name: 'name' },
]

export function Tags({ repository, role }: { repository: string; role: string }) {
  const { view, only, change } = useTagView()
  const list = useTags(repository, view)
  const { rows, paging } = useRows(list, tagsOf)
  const columns = useMemo(() => columnsOf(repository, role), [repository, role])
  const [chosen, setChosen] = useState<Set<string>>(new Set())
  const curates = role === 'curator' || role === 'owner'
  const picked = rows.filter((t) => chosen.has(t.name))
  return (
    <>
      <Box sx={{ mb: 1.5 }}>
        <PushAndPull repository={repository} tag={rows[0]?.name} digest={rows[0]?.digest} mayPush={['writer', 'curator', 'owner'].includes(role)} />
      </Box>
      {(rows.length > 0 || only !== '') && (
        <Box sx={{ display: 'flex', mb: 1, gap: 2, alignItems: 'center', minHeight: 34 }}>
          {picked.length > 0 ? (
            <>
              <Typography>{picked.length === 1 ? '1 tag is chosen' : `${picked.length} tags are chosen`}</Typography>
              <RemoveTags repository={repository} tags={picked} onDone={() => setChosen(new Set())} />
              <Button size="small" color="inherit" onClick={() => setChosen(new Set())}>Choose none</Button>
            </>
          ) : (
            <Box role="group" aria-label="Order" sx={{ display: 'flex', gap: 1.5, alignItems: 'baseline' }}>
              <Typography variant="body2" color="textSecondary">First the</Typography>
              {orders.map((o) => (
                <ButtonBase
                  key={o.sort} aria-pressed={view.sort === o.sort} onClick={() => change({ sort: o.sort })}
                  sx={{ font: 'inherit', fontSize: '0.8125rem', py: 0.25, borderBottom: 2, borderColor: view.sort === o.sort ? 'primary.main' : 'transparent', '&:hover': { color: 'primary.main' } }}
                >
                  {o.name}
                </ButtonBase>
              ))}
            </Box>
          )}
          <Filter label="Only tags with …, or 2.4.*" value={only} onChange={(text) => change({ only: text })} />
        </Box>
      )}
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing the tags" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && (
        <Empty>{only === '' ? 'No tags yet. Images here are reached by digest, until a push gives one a tag.' : `No tag ${isPattern(only) ? 'is what' : 'has'} “${only}” ${isPattern(only) ? 'means' : 'in its name'}.`}</Empty>
      )}
      {rows.length > 0 && (
        <RowTable
          label="Tags" columns={columns} rows={rows} rowKey={(t) => t.name} place={(t) => imagePlace(repository, t.name)}
          sort={view.sort} onSort={(sort) => change({ sort })} {...(curates && { chosen, onChoose: setChosen })} {...paging}
        />
      )}
    </>
  )
}
