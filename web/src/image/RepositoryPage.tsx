import { Box, Link, Typography } from '@mui/material'
import { useMemo } from 'react'
import { Link as Route } from 'react-router'
import { imagePlace } from '../api/addresses'
import { Refusal, type Schemas } from '../api/client'
import { type Sort, useRows } from '../api/asking'
import { useTags } from '../api/images'
import { useRepository } from '../api/repositories'
import { useService } from '../api/service'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Filter, useListView } from '../parts/Filter'
import { Page } from '../parts/Page'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { PushAndPull } from './PushAndPull'
import { Path } from './Path'

type Tag = Schemas['Tag']

const tagsOf = (page: Schemas['TagList']) => page.tags

const columnsOf = (repository: string): Column<Tag, Sort>[] => [
  {
    title: 'Tag', width: 'minmax(120px, 1fr)', sort: 'name',
    cell: (t) => (
      <Link component={Route} to={imagePlace(repository, t.name)} tabIndex={-1} color="textPrimary">
        {t.name}
      </Link>
    ),
  },
  { title: 'Digest', width: '176px', cell: (t) => <Digest digest={t.digest} /> },
  { title: 'Size', width: '80px', number: true, cell: (t) => <Size bytes={t.size} /> },
  { title: 'Runs on', width: 'minmax(165px, 1fr)', cell: (t) => t.platforms.join(', ') || <Typography component="span" variant="body2" color="textSecondary">{t.artifact_type ?? 'not said'}</Typography> },
  { title: 'Moved', width: '115px', sort: 'change', cell: (t) => <When at={t.moved_at} /> },
  { title: 'By', width: '105px', cell: (t) => t.moved_by ?? <Typography component="span" color="textSecondary">nobody</Typography> },
  { title: 'Pulled', width: '110px', cell: (t) => <When at={t.pulled_at} /> },
]

export function RepositoryPage({ repository }: { repository: string }) {
  const { view, change } = useListView('change')
  const about = useRepository(repository)
  const list = useTags(repository, view)
  const service = useService()
  const { rows, paging } = useRows(list, tagsOf)
  const columns = useMemo(() => columnsOf(repository), [repository])
  const address = service.data?.address ?? ''
  if (about.error) {
    const unknown = about.error instanceof Refusal && about.error.status === 404
    return (
      <Page title={repository} over={<Path repository={repository} />}>
        {unknown ? (
          <Empty command={`warthesis push IMAGE ${address}/${repository}:TAG`}>There is no repository {repository} yet. A push makes it:</Empty>
        ) : (
          <Trouble asked={`Opening ${repository}`} error={about.error} again={() => void about.refetch()} />
        )}
      </Page>
    )
  }
  return (
    <Page
      title={repository}
      over={<Path repository={repository} />}
      fill
      beside={
        <>
          {about.data && (
            <Typography color="textSecondary">
              {about.data.tags} {about.data.tags === 1 ? 'tag' : 'tags'} · <Size bytes={about.data.size} /> · {about.data.pulls.toLocaleString('en')} pulls · {about.data.open ? 'anybody may pull' : 'only members may pull'}
              {about.data.description && ` · ${about.data.description}`}
            </Typography>
          )}
          <Filter label="Only tags with …" value={view.contains} onChange={(contains) => change({ contains })} />
        </>
      }
    >
      <Box sx={{ mb: 2 }}>
        <PushAndPull repository={repository} tag={rows[0]?.name} digest={rows[0]?.digest} mayPush={['writer', 'curator', 'owner'].includes(about.data?.role ?? '')} />
      </Box>
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing the tags" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && (
        <Empty>{view.contains === '' ? 'No tags yet. Images here are reached by digest, until a push gives one a tag.' : `No tag has “${view.contains}” in its name.`}</Empty>
      )}
      {rows.length > 0 && (
        <RowTable
          label="Tags" columns={columns} rows={rows} rowKey={(t) => t.name} place={(t) => imagePlace(repository, t.name)}
          sort={view.sort} onSort={(sort) => change({ sort })} {...paging}
        />
      )}
    </Page>
  )
}
