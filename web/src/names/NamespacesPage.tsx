import { Box, Link } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useNavigate } from 'react-router'
import { type Namespace, useMakeNamespace, useNamespaces } from '../api/namespaces'
import { useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { Filter, useListView } from '../parts/Filter'
import { DialogButton, Field } from '../parts/Forms'
import { Page } from '../parts/Page'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { AccessTabs } from '../rights/AccessTabs'

export const namespacePlace = (name: string) => `/n/${name}`

const columns: Column<Namespace, 'name'>[] = [
  { title: 'Namespace', width: 'minmax(110px, 160px)', sort: 'name', cell: (n) => <Link component={Route} to={namespacePlace(n.name)} tabIndex={-1} color="textPrimary">{n.name}</Link> },
  { title: 'Pull', width: '90px', cell: (n) => (n.open ? 'anybody' : 'members') },
  { title: 'Your role', width: '90px', cell: (n) => n.role || 'none' },
  { title: 'Repositories', width: '100px', number: true, cell: (n) => n.repositories },
  { title: 'Size', width: '90px', number: true, from: 1000, cell: (n) => <Size bytes={n.size} /> },
  { title: 'Pushed', width: '120px', from: 1100, cell: (n) => <When at={n.pushed_at} /> },
  { title: 'What is in it', width: 'minmax(160px, 1fr)', cell: (n) => n.description },
]

export function NamespacesPage() {
  const { view, change } = useListView('name')
  const list = useNamespaces(view.contains)
  const me = useMe()
  const rows = list.data?.namespaces ?? []
  return (
    <Page
      title="Access" fill over={<AccessTabs />}
      beside={
        <Box sx={{ display: 'flex', gap: 1.5, ml: 'auto', alignItems: 'center' }}>
          {me.data?.makes_namespaces && <MakeNamespace />}
          <Filter label="Only names with …" value={view.contains} onChange={(contains) => change({ contains })} />
        </Box>
      }
    >
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing the namespaces" error={list.error} again={() => void list.refetch()} />}
      {list.data && rows.length === 0 && <Empty>{view.contains ? `No namespace has “${view.contains}” in its name.` : 'No namespaces that you may see. An owner of one, or a registry admin, can give you a role.'}</Empty>}
      {rows.length > 0 && <RowTable label="Namespaces" columns={columns} rows={rows} rowKey={(n) => n.name} place={(n) => namespacePlace(n.name)} sort="name" />}
    </Page>
  )
}

function MakeNamespace() {
  const [name, setName] = useState('')
  const [description, setDescription] = useState('')
  const make = useMakeNamespace()
  const go = useNavigate()
  return (
    <DialogButton
      name="Make a namespace" title="Make a namespace" action="Make it" busy={make.isPending} error={make.error} ready={name !== ''}
      onDo={() => make.mutate({ name, description }, { onSuccess: () => void go(namespacePlace(name)) })}
    >
      <Field label="Name" value={name} onChange={setName} hint="Small letters and digits; it begins the names of its repositories" autoFocus />
      <Field label="What is in it" value={description} onChange={setDescription} />
    </DialogButton>
  )
}
