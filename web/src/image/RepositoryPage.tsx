import { Box, Link, Tab, Tabs, Typography } from '@mui/material'
import { useMemo } from 'react'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace } from '../api/addresses'
import { Refusal, type Schemas } from '../api/client'
import { type Sort, useRows } from '../api/asking'
import { useTags } from '../api/images'
import { useRepository, useRestoreRepository } from '../api/repositories'
import { useService } from '../api/service'
import { may, useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Filter, useListView } from '../parts/Filter'
import { Restore } from '../parts/Forms'
import { Page } from '../parts/Page'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { Members } from '../names/Members'
import { RepositorySettings } from '../names/RepositorySettings'
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
  { title: 'Size', width: '80px', number: true, from: 1000, cell: (t) => <Size bytes={t.size} /> },
  { title: 'Runs on', width: 'minmax(150px, 1fr)', cell: (t) => t.platforms.join(', ') || <Typography component="span" variant="body2" color="textSecondary">{t.artifact_type ?? 'not said'}</Typography> },
  { title: 'Moved', width: '115px', sort: 'change', cell: (t) => <When at={t.moved_at} /> },
  { title: 'By', width: '105px', from: 1100, cell: (t) => t.moved_by ?? <Typography component="span" color="textSecondary">nobody</Typography> },
  { title: 'Pulled', width: '110px', from: 1230, cell: (t) => <When at={t.pulled_at} /> },
]

export function RepositoryPage({ repository }: { repository: string }) {
  const about = useRepository(repository)
  const [asked, ask] = useSearchParams()
  const shown = asked.get('show') ?? 'tags'
  if (about.error) {
    const unknown = about.error instanceof Refusal && about.error.status === 404
    return (
      <Page title={repository} over={<Path repository={repository} />}>
        {unknown ? <Unknown repository={repository} /> : <Trouble asked={`Opening ${repository}`} error={about.error} again={() => void about.refetch()} />}
      </Page>
    )
  }
  const role = about.data?.role ?? ''
  return (
    <Page
      title={repository}
      over={<Path repository={repository} />}
      fill={shown === 'tags'}
      beside={
        about.data && (
          <Typography color="textSecondary">
            {about.data.tags} {about.data.tags === 1 ? 'tag' : 'tags'} · <Size bytes={about.data.size} /> · {about.data.pulls.toLocaleString('en')} pulls · {about.data.open ? 'anybody may pull' : 'only members may pull'}
            {about.data.description && ` · ${about.data.description}`}
          </Typography>
        )
      }
    >
      {role !== '' && (
        <Tabs value={shown} onChange={(_, to: string) => ask(to === 'tags' ? {} : { show: to }, { replace: true })} aria-label="What to show" sx={{ mb: 1.5, mt: -1.5 }}>
          <Tab value="tags" label="Tags" />
          <Tab value="members" label="Members and roles" />
          {role === 'owner' && <Tab value="settings" label="Settings" />}
        </Tabs>
      )}
      {shown === 'tags' && <Tags repository={repository} role={role} />}
      {shown === 'members' && <Members place={repository} owns={role === 'owner'} />}
      {shown === 'settings' && role === 'owner' && about.data && <RepositorySettings key={about.data.name} repository={about.data} />}
    </Page>
  )
}

// Unknown says that there is none, and how one comes about, to whoever may bring it.
function Unknown({ repository }: { repository: string }) {
  const me = useMe()
  const service = useService()
  const restore = useRestoreRepository()
  const mine = may(me.data, 'push', repository)
  return (
    <>
      <Empty command={mine ? `warthesis push IMAGE ${service.data?.address ?? ''}/${repository}:TAG` : undefined}>
        {mine ? `There is no repository ${repository} yet. A push makes it:` : `There is no repository ${repository} that you may see.`}
      </Empty>
      {may(me.data, 'manage', repository) && <Restore onDo={() => restore.mutate(repository)} busy={restore.isPending} error={restore.error} />}
    </>
  )
}

function Tags({ repository, role }: { repository: string; role: string }) {
  const { view, change } = useListView('change')
  const list = useTags(repository, view)
  const { rows, paging } = useRows(list, tagsOf)
  const columns = useMemo(() => columnsOf(repository), [repository])
  return (
    <>
      <Box sx={{ mb: 1.5 }}>
        <PushAndPull repository={repository} tag={rows[0]?.name} digest={rows[0]?.digest} mayPush={['writer', 'curator', 'owner'].includes(role)} />
      </Box>
      {(rows.length > 0 || view.contains !== '') && (
        <Box sx={{ display: 'flex', mb: 1 }}>
          <Filter label="Only tags with …" value={view.contains} onChange={(contains) => change({ contains })} />
        </Box>
      )}
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
    </>
  )
}
