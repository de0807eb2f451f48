import { Box, Checkbox, FormControlLabel, Typography } from '@mui/material'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { useRows } from '../api/asking'
import { type Account, accountsOf, useAccounts, useChangeAccount, useMakeAccount, useSetPassword } from '../api/accounts'
import { type Role, useRolesOf } from '../api/roles'
import { useMe } from '../api/session'
import { When } from '../parts/Amounts'
import { Filter, useListView } from '../parts/Filter'
import { Ask, DialogButton, Field, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { type Column, RowTable } from '../parts/RowTable'
import { Trouble, Waiting } from '../parts/States'
import { AccessTabs } from './AccessTabs'
import { roleColumns } from './roles'
import { TokenTable } from './TokenTable'

const columns: Column<Account, 'name'>[] = [
  { title: 'Account', width: '180px', sort: 'name', cell: (a) => a.name },
  { title: 'Kind', width: '190px', cell: (a) => `${a.kind === 'machine' ? 'machine account' : 'person'}${a.admin ? ', registry admin' : ''}${a.disabled ? ', disabled' : ''}` },
  { title: 'Groups', width: '160px', from: 1000, cell: (a) => a.groups.join(', ') },
  { title: 'Made', width: '130px', from: 1100, cell: (a) => <When at={a.created_at} /> },
  { title: 'Who or what it is', width: 'minmax(160px, 1fr)', cell: (a) => a.description },
]

export function AccountsPage() {
  const { view, change } = useListView('name')
  const list = useAccounts(view.contains)
  const me = useMe()
  const [asked] = useSearchParams()
  const { rows, paging } = useRows(list, accountsOf)
  const open = rows.find((a) => a.name === asked.get('open'))
  return (
    <Page
      title="Accounts" fill over={<AccessTabs />}
      beside={
        <Box sx={{ display: 'flex', gap: 1.5, ml: 'auto', alignItems: 'center' }}>
          {me.data?.admin && <MakeAccount />}
          <Filter label="Only names with …" value={view.contains} onChange={(contains) => change({ contains })} />
        </Box>
      }
    >
      {list.isPending && <Waiting />}
      {list.error && <Trouble asked="Listing the accounts" error={list.error} again={() => void list.refetch()} />}
      {open && me.data?.admin && <OneAccount key={open.name} account={open} />}
      {rows.length > 0 && (
        <RowTable
          label="Accounts" columns={columns} rows={rows} rowKey={(a) => a.name} place={(a) => `/access/accounts?open=${encodeURIComponent(a.name)}`}
          sort="name" {...paging}
        />
      )}
    </Page>
  )
}

function OneAccount({ account }: { account: Account }) {
  const change = useChangeAccount()
  const roles = useRolesOf(account.name)
  const me = useMe()
  const own = me.data?.account === account.name
  const warning = own && ' This is your own account: you cannot take it back yourself. Another registry admin must, or whoever has the service\u2019s machine.'
  return (
    <Box sx={{ maxHeight: '60%', overflow: 'auto', mb: 1, flexShrink: 0 }}>
      <Section
        title={account.name}
        beside={
          <>
            {account.kind === 'person' && <SetPassword account={account.name} />}
            <Ask
              name={account.admin ? 'Take registry admin' : 'Make registry admin'} label={`${account.admin ? 'Take registry admin' : 'Make registry admin'}: ${account.name}`} action={account.admin ? 'Take it' : 'Make it'}
              question={account.admin ? `Take registry admin from ${account.name}?` : `Make ${account.name} a registry admin?`}
              consequence={account.admin ? <>The account keeps the roles that it has.{warning}</> : 'A registry admin may do everything, everywhere.'} busy={change.isPending} error={change.error}
              onDo={(done) => change.mutate({ name: account.name, admin: !account.admin, on_own: own || undefined }, { onSuccess: done })}
            />
            <Ask
              name={account.disabled ? 'Enable' : 'Disable'} label={`${account.disabled ? 'Enable' : 'Disable'} ${account.name}`} action={account.disabled ? 'Enable it' : 'Disable it'}
              question={account.disabled ? `Let ${account.name} log in again?` : `Keep ${account.name} from logging in?`}
              consequence={account.disabled ? 'Its tokens that have not ended work again.' : <>Its sessions and tokens stop at the next request. It can be enabled again here.{warning}</>} busy={change.isPending} error={change.error}
              onDo={(done) => change.mutate({ name: account.name, disabled: !account.disabled, on_own: own || undefined }, { onSuccess: done })}
            />
          </>
        }
      >
        <Typography color="textSecondary">
          {account.kind === 'machine' ? 'Machine account' : 'Person'}
          {account.admin && ', registry admin'}
          {account.disabled && ', disabled'}
          {account.company && `, by the company's login at ${account.company}`}
          {account.description && `. ${account.description}`}
        </Typography>
      </Section>
      <Section title={`Roles of ${account.name}`}>
        {roles.data && roles.data.roles.length === 0 && <Typography color="textSecondary">None: give one on the page of a namespace.</Typography>}
        {roles.data && roles.data.roles.length > 0 && (
          <PlainTable label={`Roles of ${account.name}`} rows={roles.data.roles} rowKey={(r) => `${r.place} ${r.group ?? ''}`} columns={[...roleColumns, { title: 'By the group', cell: (r: Role) => r.group ?? '' }]} />
        )}
      </Section>
      <TokenTable account={account.name} title={`Tokens of ${account.name}`} />
    </Box>
  )
}

function SetPassword({ account }: { account: string }) {
  const [password, setPassword] = useState('')
  const set = useSetPassword()
  return (
    <DialogButton
      quiet name="Set a password" title={`Set a password for ${account}`} action="Set it" busy={set.isPending} error={set.error} ready={password !== ''}
      onDo={(close) => set.mutate({ name: account, password }, { onSuccess: () => { close(); setPassword('') } })}
    >
      <Field label="New password" type="password" value={password} onChange={setPassword} hint="At least 10 characters. Sessions and logins of the account end; its tokens go on." autoFocus />
    </DialogButton>
  )
}

function MakeAccount() {
  const [name, setName] = useState('')
  const [description, setDescription] = useState('')
  const [machine, setMachine] = useState(false)
  const [password, setPassword] = useState('')
  const make = useMakeAccount()
  return (
    <DialogButton
      name="Make an account" title="Make an account" action="Make it" busy={make.isPending} error={make.error} ready={name !== ''}
      onDo={(close) =>
        make.mutate(
          { name, description, kind: machine ? 'machine' : 'person', password: machine || password === '' ? undefined : password },
          { onSuccess: () => { close(); setName(''); setPassword('') } },
        )
      }
    >
      <Field label="Name" value={name} onChange={setName} autoFocus />
      <Field label="Who or what it is" value={description} onChange={setDescription} />
      <FormControlLabel label="A machine account: for a program, which logs in by tokens" control={<Checkbox size="small" checked={machine} onChange={(e) => setMachine(e.target.checked)} />} />
      {!machine && <Field label="Password" type="password" value={password} onChange={setPassword} hint="At least 10 characters; leave it out for somebody who comes by the company's login" />}
    </DialogButton>
  )
}
