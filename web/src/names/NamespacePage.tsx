import { Box, Checkbox, FormControlLabel, Link, Tab, Tabs, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useNavigate, useSearchParams } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import { Refusal, type Schemas } from '../api/client'
import { type Sort, useRows } from '../api/asking'
import { repositoriesOf, useRepositories } from '../api/repositories'
import { useService } from '../api/service'
import { type Namespace, useChangeNamespace, useNamespace, useRemoveNamespace, useRestoreNamespace } from '../api/namespaces'
import { may, useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { useListView } from '../parts/Filter'
import { Field, Restore, SaveForm, Section } from '../parts/Forms'
import { Links } from './RepositorySettings'
import { RemovePlace } from '../parts/RemovePlace'
import { sayRemoved } from '../parts/Undo'
import { Page } from '../parts/Page'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { PushAndPull } from '../image/PushAndPull'
import { MakeRepository } from './MakeRepository'
import { Members } from './Members'
import { labelText, readLabels } from './labels'

type Repository = Schemas['Repository']

export function NamespacePage({ name }: { name: string }) {
  const namespace = useNamespace(name)
  const me = useMe()
  const [asked, ask] = useSearchParams()
  const shown = asked.get('show') ?? 'repositories'
  if (namespace.error) {
    const unknown = namespace.error instanceof Refusal && namespace.error.status === 404
    return (
      <Page title={name}>
        {unknown ? <Gone name={name} /> : <Trouble asked={`Opening ${name}`} error={namespace.error} again={() => void namespace.refetch()} />}
      </Page>
    )
  }
  if (!namespace.data) return <Waiting />
  const n = namespace.data
  const owns = n.role === 'owner'
  return (
    <Page
      title={name} fill={shown === 'repositories'}
      beside={
        <Typography color="textSecondary">
          {n.open ? 'anybody may pull' : 'only members may pull'} · {n.quota ? <Link component={Route} to={`/storage?place=${n.name}`} underline="always" color={n.used! * 5 >= n.quota * 4 ? 'warning.main' : 'inherit'}><Size bytes={n.used!} /> used of <Size bytes={n.quota} /></Link> : <Size bytes={n.size} />} · {n.role ? `you are ${n.role} here` : 'you have no role here'}
          {n.description && ` · ${n.description}`}
        </Typography>
      }
      do={shown === 'repositories' && owns && <MakeRepository namespace={name} />}
    >
      <Tabs value={shown} onChange={(_, to: string) => ask(to === 'repositories' ? {} : { show: to }, { replace: true })} aria-label="What to show" sx={{ mb: 2 }}>
        <Tab value="repositories" label={`Repositories (${n.repositories})`} />
        <Tab value="use" label="Push and pull" />
        {n.role && <Tab value="members" label="Members and roles" />}
        {owns && <Tab value="settings" label="Settings" />}
      </Tabs>
      {shown === 'repositories' && <Repositories name={name} />}
      {shown === 'use' && <PushAndPull repository={`${name}/APPLICATION`} namespace={name} mayPush={['writer', 'curator', 'owner'].includes(n.role ?? '')} />}
      {shown === 'members' && <Members place={name} owns={owns} />}
      {shown === 'settings' && owns && <SettingsForm namespace={n} admin={me.data?.admin ?? false} />}
    </Page>
  )
}

// Gone says that there is none, and offers the way back to who may take it.
function Gone({ name }: { name: string }) {
  const me = useMe()
  const restore = useRestoreNamespace()
  return (
    <>
      <Empty>There is no namespace {name} that you may see.</Empty>
      {me.data?.admin && <Restore onDo={() => restore.mutate(name)} busy={restore.isPending} error={restore.error} />}
    </>
  )
}

const repositoryColumns: Column<Repository, Sort>[] = [
  { title: 'Repository', width: 'minmax(200px, 1fr)', sort: 'name', cell: (r) => <Link component={Route} to={repositoryPlace(r.name)} tabIndex={-1} color="textPrimary">{r.name}</Link> },
  { title: 'Pull', width: '90px', cell: (r) => (r.open ? 'anybody' : 'members') },
  { title: 'Tags', width: '70px', number: true, cell: (r) => r.tags },
  { title: 'Size', width: '90px', number: true, cell: (r) => <Size bytes={r.size} /> },
  { title: 'Pushed', width: '120px', sort: 'change', cell: (r) => <When at={r.pushed_at} /> },
  { title: 'Pulled', width: '120px', from: 1100, cell: (r) => <When at={r.pulled_at} /> },
]

function Repositories({ name }: { name: string }) {
  const { view, change } = useListView('change')
  const service = useService()
  const me = useMe()
  const list = useRepositories(view, name)
  const { rows, paging } = useRows(list, repositoriesOf)
  if (list.isPending) return <Waiting />
  if (list.error) return <Trouble asked="Listing the repositories" error={list.error} again={() => void list.refetch()} />
  if (rows.length === 0) {
    const mine = may(me.data, 'push', `${name}/APPLICATION`)
    return <Empty command={mine ? `warthesis push IMAGE ${service.data?.address ?? ''}/${name}/APPLICATION:TAG` : undefined}>{mine ? 'No repositories yet. The first push makes one:' : 'No repositories yet.'}</Empty>
  }
  return (
    <RowTable
      label="Repositories" columns={repositoryColumns} rows={rows} rowKey={(r) => r.name} place={(r) => repositoryPlace(r.name)}
      sort={view.sort} onSort={(sort) => change({ sort })} {...paging}
    />
  )
}

const pushers = [
  { value: 'writer', name: 'those of writers, and above' },
  { value: 'curator', name: 'those of curators, and above' },
  { value: 'owner', name: 'those of owners alone' },
  { value: 'nobody', name: 'nobody’s: repositories are made ahead' },
]

function SettingsForm({ namespace, admin }: { namespace: Namespace; admin: boolean }) {
  const [description, setDescription] = useState(namespace.description ?? '')
  const [labels, setLabels] = useState(labelText(namespace.labels))
  const [open, setOpen] = useState(namespace.open)
  const [pushMakes, setPushMakes] = useState<string>(namespace.push_makes)
  const [newDescription, setNewDescription] = useState(namespace.new_description ?? '')
  const [newLabels, setNewLabels] = useState(labelText(namespace.new_labels))
  const [logPulls, setLogPulls] = useState(namespace.log_pulls)
  const [window, setWindow] = useState(namespace.restore_window ?? '')
  const change = useChangeNamespace(namespace.name)
  const remove = useRemoveNamespace()
  const go = useNavigate()
  return (
    <>
      <Section title="Settings">
        <SaveForm
          saving={change.isPending} saved={change.isSuccess} error={change.error}
          onSave={() => change.mutate({
            description, labels: readLabels(labels), open, push_makes: pushMakes as 'writer', new_description: newDescription, new_labels: readLabels(newLabels), log_pulls: logPulls, restore_window: window,
          })}
        >
          <Field label="What is in it" value={description} onChange={setDescription} />
          <Field label="Whose pushes make repositories" value={pushMakes} onChange={setPushMakes} options={pushers} />
          <Field label="Labels" value={labels} onChange={setLabels} hint="name=value, one a line" multiline />
          <Field label="Labels of repositories that a push makes" value={newLabels} onChange={setNewLabels} hint="name=value, one a line" multiline />
          <Field label="How long removals can be undone" value={window} onChange={setWindow} hint="as in 14d; empty for as long as the registry has it, which is also the most" />
          <Field label="Description of repositories that a push makes" value={newDescription} onChange={setNewDescription} />
          <Box>
            <FormControlLabel label="Anybody may pull, without a login" control={<Checkbox size="small" checked={open} onChange={(e) => setOpen(e.target.checked)} />} />
            <FormControlLabel label="Write each pull into the audit log" control={<Checkbox size="small" checked={logPulls} onChange={(e) => setLogPulls(e.target.checked)} />} />
          </Box>
        </SaveForm>
      </Section>
      <Section title="Rules and removals">
        <Links place={namespace.name} />
      </Section>
      <Section title="Remove">
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 2 }}>
          <Typography sx={{ flex: 1 }}>
            All repositories of the namespace leave at once for everybody. {admin ? 'You can restore it here under the same address.' : 'A registry admin can restore it.'}
          </Typography>
          <RemovePlace
            what="namespace" name={namespace.name} busy={remove.isPending} error={remove.error}
            onDo={(how) => remove.mutate({ name: namespace.name, ...how }, {
              onSuccess: (done) => {
                if (admin) sayRemoved({ removal: done.removal, until: done.until, says: `Removed the namespace ${namespace.name}.` })
                void go('/access')
              },
            })}
          />
        </Box>
      </Section>
    </>
  )
}
