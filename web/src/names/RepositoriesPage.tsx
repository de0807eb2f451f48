import { Box, Link, Typography } from '@mui/material'
import { Link as Route } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { type Sort, useRows } from '../api/asking'
import { repositoriesOf, useRepositories } from '../api/repositories'
import { useService } from '../api/service'
import { useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { Filter, useListView } from '../parts/Filter'
import { Page } from '../parts/Page'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { MakeRepository } from './MakeRepository'

type Repository = Schemas['Repository']

const columns: Column<Repository, Sort>[] = [
  {
    title: 'Repository', width: 'minmax(220px, 1fr)', sort: 'name',
    cell: (r) => (
      <Link component={Route} to={repositoryPlace(r.name)} tabIndex={-1} color="textPrimary">
        {r.name.includes('/') && <Typography component="span" color="textSecondary">{r.namespace}/</Typography>}
        {r.name.includes('/') ? r.name.slice(r.namespace.length + 1) : r.name}
      </Link>
    ),
  },
  { title: 'Tags', width: '80px', number: true, cell: (r) => r.tags },
  { title: 'Size', width: '100px', number: true, cell: (r) => <Size bytes={r.size} /> },
  { title: 'Pushed', width: '140px', sort: 'change', cell: (r) => <When at={r.pushed_at} /> },
  { title: 'Pulled', width: '140px', from: 1100, cell: (r) => <When at={r.pulled_at} /> },
  { title: 'Pulls', width: '80px', number: true, from: 1000, cell: (r) => r.pulls.toLocaleString('en') },
]

export function RepositoriesPage() {
  const { view, change } = useListView('change')
  const list = useRepositories(view)
  const service = useService()
  const { rows, paging } = useRows(list, repositoriesOf)
  const me = useMe()
  const makes = me.data?.may.some((s) => s.actions.includes('manage')) ?? false
  const pushes = me.data?.may.some((s) => s.actions.includes('push')) || me.data?.makes_namespaces
  const onFilter = (contains: string) => change({ contains })
  return (
    <Page
      title="Images" fill
      beside={
        <Box sx={{ display: 'flex', gap: 1.5, ml: 'auto', alignItems: 'center' }}>
          {makes && <MakeRepository />}
          <Filter label="Only names with …" value={view.contains} onChange={onFilter} />
        </Box>
      }
    >
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing the repositories" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && view.contains !== '' && <Empty>No repository has “{view.contains}” in its name.</Empty>}
      {list.data && rows.length === 0 && view.contains === '' && (
        <Empty command={pushes ? `warthesis push IMAGE ${service.data?.address ?? 'REGISTRY'}/NAMESPACE/NAME:TAG` : undefined}>
          {pushes ? 'No repositories yet. The first push makes one:' : 'No repositories that you may see. An owner of a namespace, or a registry admin, can give you a role.'}
        </Empty>
      )}
      {rows.length > 0 && (
        <RowTable
          label="Repositories" columns={columns} rows={rows} rowKey={(r) => r.name} place={(r) => repositoryPlace(r.name)}
          sort={view.sort} onSort={(sort) => change({ sort })} {...paging}
        />
      )}
    </Page>
  )
}
