import { Box, Chip, Typography } from '@mui/material'
import { useState } from 'react'
import { accountsOf, useAccounts } from '../api/accounts'
import { type Group, useGroups, useJoinGroup, useLeaveGroup, useMakeGroup, useRemoveGroup } from '../api/groups'
import { useMe } from '../api/session'
import { Ask, DialogButton, Field, Said } from '../parts/Forms'
import { Page } from '../parts/Page'
import { type PlainColumn, PlainTable } from '../parts/PlainTable'
import { Empty, Trouble, Waiting } from '../parts/States'
import { AccessTabs } from './AccessTabs'

export function GroupsPage() {
  const groups = useGroups()
  const me = useMe()
  const remove = useRemoveGroup()
  const leave = useLeaveGroup()
  const admin = me.data?.admin ?? false
  const columns: PlainColumn<Group>[] = [
    { title: 'Group', width: 140, cell: (g: Group) => g.name },
    {
      title: 'Members',
      cell: (g: Group) => (
        <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 0.5, alignItems: 'center' }}>
          {g.members.map((m) => (
            <Chip key={m} size="small" variant="outlined" label={m} onDelete={admin ? () => leave.mutate({ group: g.name, account: m }) : undefined} />
          ))}
          {g.members.length === 0 && <Typography component="span" color="textSecondary">nobody</Typography>}
          {admin && <Join group={g} />}
        </Box>
      ),
    },
    { title: 'At the company’s login', width: 180, cell: (g: Group) => g.claim ?? 'not known there' },
    { title: 'Who is in it', cell: (g: Group) => g.description ?? '' },
  ]
  if (admin) {
    columns.push({
      title: 'Do', width: 90,
      cell: (g: Group) => (
        <Ask
          name="Remove" label={`Remove the group ${g.name}`} question={`Remove the group ${g.name}?`} action="Remove it" busy={remove.isPending} error={remove.error}
          consequence={`Its ${g.members.length} members lose the roles that they have by it. The group and its roles must be made anew to get them back.`}
          onDo={(done) => remove.mutate(g.name, { onSuccess: done })}
        />
      ),
    })
  }
  return (
    <Page title="Groups" over={<AccessTabs />} beside={<Box sx={{ ml: 'auto' }}>{admin && <MakeGroup />}</Box>}>
      {groups.isPending && <Waiting />}
      {groups.error && <Trouble asked="Listing the groups" error={groups.error} />}
      <Said error={leave.error} />
      {groups.data && groups.data.groups.length === 0 && <Empty command="warthesis team make REGISTRY/NAMESPACE --owner ACCOUNT">No groups yet. One comes with a new team:</Empty>}
      {groups.data && groups.data.groups.length > 0 && <PlainTable label="Groups" columns={columns} rows={groups.data.groups} rowKey={(g) => g.name} />}
    </Page>
  )
}

function Join({ group }: { group: Group }) {
  const [asked, setAsked] = useState(false)
  const [account, setAccount] = useState('')
  const accounts = useAccounts('', asked)
  const join = useJoinGroup()
  const names = (accounts.data?.pages.flatMap(accountsOf) ?? []).filter((a) => !group.members.includes(a.name)).map((a) => ({ value: a.name, name: a.name }))
  return (
    <DialogButton
      quiet name="Add" label={`Add somebody to the group ${group.name}`} title={`Add somebody to the group ${group.name}`} action="Add"
      onOpen={() => setAsked(true)} busy={join.isPending} error={join.error} ready={account !== ''}
      onDo={(close) => join.mutate({ group: group.name, account }, { onSuccess: () => { close(); setAccount('') } })}
    >
      <Field label="Account" value={account} onChange={setAccount} options={names} />
    </DialogButton>
  )
}

function MakeGroup() {
  const [name, setName] = useState('')
  const [description, setDescription] = useState('')
  const [claim, setClaim] = useState('')
  const make = useMakeGroup()
  return (
    <DialogButton
      name="Make a group" title="Make a group" action="Make it" busy={make.isPending} error={make.error} ready={name !== ''}
      onDo={(close) => make.mutate({ name, description, claim }, { onSuccess: () => { close(); setName('') } })}
    >
      <Field label="Name" value={name} onChange={setName} autoFocus />
      <Field label="Who is in it" value={description} onChange={setDescription} />
      <Field label="Its name at the company’s login" value={claim} onChange={setClaim} hint="The company’s login then fills it" />
    </DialogButton>
  )
}
