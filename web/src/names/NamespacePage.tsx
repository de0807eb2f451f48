import { Box, Button, Checkbox, FormControlLabel, Link, Tab, Tabs, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useNavigate, useSearchParams } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import { Refusal, type Schemas } from '../api/client'
import { type Sort, useRows } from '../api/asking'
import { repositoriesOf, useRepositories } from '../api/repositories'
import { useService } from '../api/service'
import { accountsOf, useAccounts } from '../api/accounts'
import { useGroups } from '../api/groups'
import { type Namespace, useChangeNamespace, useNamespace, useRemoveNamespace, useRestoreNamespace } from '../api/namespaces'
import { type Role, useGiveRole, useRoles, useTakeRole } from '../api/roles'
import { useMe } from '../api/session'
import { Size, When } from '../parts/Amounts'
import { useListView } from '../parts/Filter'
import { Ask, DialogButton, Field, Said, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { type Column, RowTable } from '../parts/RowTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { PushAndPull } from '../image/PushAndPull'
import { roleColumns } from '../rights/roles'

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
          {n.open ? 'anybody may pull' : 'only members may pull'} · <Size bytes={n.size} /> · {n.role ? `you are ${n.role} here` : 'you have no role here'}
          {n.description && ` · ${n.description}`}
        </Typography>
      }
    >
      <Tabs value={shown} onChange={(_, to: string) => ask(to === 'repositories' ? {} : { show: to }, { replace: true })} aria-label="What to show" sx={{ mb: 2 }}>
        <Tab value="repositories" label={`Repositories (${n.repositories})`} />
        <Tab value="use" label="Push and pull" />
        {n.role && <Tab value="members" label="Members and roles" />}
        {owns && <Tab value="settings" label="Settings" />}
      </Tabs>
      {shown === 'repositories' && <Repositories name={name} />}
      {shown === 'use' && <PushAndPull repository={`${name}/APPLICATION`} namespace={name} mayPush={['writer', 'curator', 'owner'].includes(n.role ?? '')} />}
      {shown === 'members' && <Members name={name} owns={owns} />}
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
      {me.data?.admin && (
        <Box sx={{ mt: 2, display: 'flex', gap: 2, alignItems: 'center' }}>
          <Button size="small" variant="outlined" onClick={() => restore.mutate(name)} disabled={restore.isPending}>
            Restore it, if it was removed
          </Button>
          <Said error={restore.error} />
        </Box>
      )}
    </>
  )
}

const repositoryColumns: Column<Repository, Sort>[] = [
  { title: 'Repository', width: 'minmax(200px, 1fr)', sort: 'name', cell: (r) => <Link component={Route} to={repositoryPlace(r.name)} tabIndex={-1} color="textPrimary">{r.name}</Link> },
  { title: 'Pull', width: '90px', cell: (r) => (r.open ? 'anybody' : 'members') },
  { title: 'Tags', width: '70px', number: true, cell: (r) => r.tags },
  { title: 'Size', width: '90px', number: true, cell: (r) => <Size bytes={r.size} /> },
  { title: 'Pushed', width: '120px', sort: 'change', cell: (r) => <When at={r.pushed_at} /> },
  { title: 'Pulled', width: '120px', cell: (r) => <When at={r.pulled_at} /> },
]

function Repositories({ name }: { name: string }) {
  const { view, change } = useListView('change')
  const service = useService()
  const list = useRepositories(view, name)
  const { rows, paging } = useRows(list, repositoriesOf)
  if (list.isPending) return <Waiting />
  if (list.error) return <Trouble asked="Listing the repositories" error={list.error} again={() => void list.refetch()} />
  if (rows.length === 0) return <Empty command={`warthesis push IMAGE ${service.data?.address ?? ''}/${name}/APPLICATION:TAG`}>No repositories yet. The first push makes one:</Empty>
  return (
    <RowTable
      label="Repositories" columns={repositoryColumns} rows={rows} rowKey={(r) => r.name} place={(r) => repositoryPlace(r.name)}
      sort={view.sort} onSort={(sort) => change({ sort })} {...paging}
    />
  )
}

const roleNames = [
  { value: 'reader', name: 'reader: pull' },
  { value: 'writer', name: 'writer: also push' },
  { value: 'curator', name: 'curator: also delete, move tags and set rules' },
  { value: 'owner', name: 'owner: also members and settings' },
]

const nameOf = (r: Role) => (r.group ? `group ${r.group}` : (r.account ?? ''))

function Members({ name, owns }: { name: string; owns: boolean }) {
  const roles = useRoles(name, true)
  const take = useTakeRole()
  const columns = [{ title: 'Who', cell: (r: Role) => nameOf(r) }, ...roleColumns]
  if (owns) {
    columns.push({
      title: 'Do',
      cell: (r: Role) => (
        <Ask
          name="Take" label={`Take the role of ${nameOf(r)}`} question={`Take the role ${r.role} from ${nameOf(r)}?`} action="Take it" busy={take.isPending} error={take.error}
          consequence={`From the next request on ${nameOf(r)} may not do in ${r.place} what the role allows, unless by another role. It can be given again here.`}
          onDo={(done) => take.mutate({ place: r.place, account: r.account, group: r.group }, { onSuccess: done })}
        />
      ),
    })
  }
  return (
    <Section title="Members and roles" beside={owns ? <GiveRole place={name} /> : <Typography variant="body2" color="textSecondary">Changing them takes the role owner here.</Typography>}>
      {roles.isPending && <Waiting />}
      {roles.error && <Trouble asked="Listing the members" error={roles.error} />}
      {roles.data && <PlainTable label="Members and roles" columns={columns} rows={roles.data.roles} rowKey={(r) => `${nameOf(r)} ${r.place}`} />}
    </Section>
  )
}

function GiveRole({ place }: { place: string }) {
  const [asked, setAsked] = useState(false)
  const [who, setWho] = useState('')
  const [where, setWhere] = useState(place)
  const [role, setRole] = useState('writer')
  const give = useGiveRole()
  const accounts = useAccounts('', asked)
  const groups = useGroups(asked)
  const names = [
    ...(groups.data?.groups ?? []).map((g) => ({ value: `group:${g.name}`, name: `group ${g.name}` })),
    ...(accounts.data?.pages.flatMap(accountsOf) ?? []).map((a) => ({ value: a.name, name: a.kind === 'machine' ? `${a.name} (machine account)` : a.name })),
  ]
  const member = who.startsWith('group:') ? { group: who.slice('group:'.length) } : { account: who }
  return (
    <DialogButton
      name="Give a role" title="Give a role" action="Give it" onOpen={() => setAsked(true)} busy={give.isPending} error={give.error} ready={who !== ''}
      onDo={(close) => give.mutate({ place: where, role: role as 'reader', ...member }, { onSuccess: () => { close(); setWho('') } })}
    >
      <Field label="Who" value={who} onChange={setWho} options={names} />
      <Field label="Role" value={role} onChange={setRole} options={roleNames} />
      <Field label="Where" value={where} onChange={setWhere} hint="The namespace, or one repository of it: for a build machine the repository alone is best" />
    </DialogButton>
  )
}

const pushers = [
  { value: 'writer', name: 'those of writers, and above' },
  { value: 'curator', name: 'those of curators, and above' },
  { value: 'owner', name: 'those of owners alone' },
  { value: 'nobody', name: 'nobody’s: repositories are made ahead' },
]

const labelText = (labels: Record<string, string>) => Object.entries(labels).map(([k, v]) => `${k}=${v}`).join('\n')

function readLabels(text: string): Record<string, string> {
  const pairs = text.split('\n').filter((l) => l.includes('=')).map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()])
  return Object.fromEntries(pairs) as Record<string, string>
}

function SettingsForm({ namespace, admin }: { namespace: Namespace; admin: boolean }) {
  const [description, setDescription] = useState(namespace.description ?? '')
  const [labels, setLabels] = useState(labelText(namespace.labels))
  const [open, setOpen] = useState(namespace.open)
  const [pushMakes, setPushMakes] = useState<string>(namespace.push_makes)
  const [newDescription, setNewDescription] = useState(namespace.new_description ?? '')
  const [newLabels, setNewLabels] = useState(labelText(namespace.new_labels))
  const [logPulls, setLogPulls] = useState(namespace.log_pulls)
  const change = useChangeNamespace(namespace.name)
  const remove = useRemoveNamespace()
  const go = useNavigate()
  return (
    <>
      <Section title="Settings">
        <Box
          component="form" sx={{ display: 'grid', gap: 2, gridTemplateColumns: '1fr 1fr', alignItems: 'start', pt: 1 }}
          onSubmit={(e) => {
            e.preventDefault()
            change.mutate({
              description, labels: readLabels(labels), open, push_makes: pushMakes as 'writer', new_description: newDescription, new_labels: readLabels(newLabels), log_pulls: logPulls,
            })
          }}
        >
          <Field label="What is in it" value={description} onChange={setDescription} />
          <Field label="Whose pushes make repositories" value={pushMakes} onChange={setPushMakes} options={pushers} />
          <Field label="Labels" value={labels} onChange={setLabels} hint="name=value, one a line" multiline />
          <Field label="Labels of repositories that a push makes" value={newLabels} onChange={setNewLabels} hint="name=value, one a line" multiline />
          <Field label="Description of repositories that a push makes" value={newDescription} onChange={setNewDescription} />
          <Box>
            <FormControlLabel label="Anybody may pull, without a login" control={<Checkbox size="small" checked={open} onChange={(e) => setOpen(e.target.checked)} />} />
            <FormControlLabel label="Write each pull into the audit log" control={<Checkbox size="small" checked={logPulls} onChange={(e) => setLogPulls(e.target.checked)} />} />
          </Box>
          <Box sx={{ gridColumn: '1 / 3', display: 'flex', gap: 2, alignItems: 'center' }}>
            <Button type="submit" variant="contained" disableElevation disabled={change.isPending}>
              Save
            </Button>
            {change.isSuccess && <Typography role="status">Saved.</Typography>}
            <Said error={change.error} />
          </Box>
        </Box>
      </Section>
      <Section title="Remove">
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 2 }}>
          <Typography sx={{ flex: 1 }}>
            All repositories of the namespace leave at once for everybody. {admin ? 'You can restore it here under the same address.' : 'A registry admin can restore it.'}
          </Typography>
          <Ask
            name="Remove the namespace" label={`Remove the namespace ${namespace.name}`} question={`Remove the namespace ${namespace.name}?`} action="Remove it" busy={remove.isPending} error={remove.error}
            consequence={`Its ${namespace.repositories} repositories can be neither pulled nor pushed to from then on. To get it back: warthesis namespace restore ${namespace.name}, as a registry admin.`}
            onDo={() => remove.mutate(namespace.name, { onSuccess: () => void go('/access') })}
          />
        </Box>
      </Section>
    </>
  )
}
