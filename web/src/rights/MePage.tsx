import { Button, Typography } from '@mui/material'
import { useState } from 'react'
import { useSetPassword } from '../api/accounts'
import { type Role } from '../api/roles'
import { useMe, useSignOut } from '../api/session'
import { DialogButton, Field, Section } from '../parts/Forms'
import { Page } from '../parts/Page'
import { PlainTable } from '../parts/PlainTable'
import { Waiting } from '../parts/States'
import { roleColumns } from './roles'
import { TokenTable } from './TokenTable'

export function MePage() {
  const me = useMe()
  const signOut = useSignOut()
  if (!me.data) return <Waiting />
  const { account, admin, groups, roles, has_password: hasPassword } = me.data
  return (
    <Page
      title={account ?? ''}
      beside={
        <>
          <Typography color="textSecondary" sx={{ flex: 1 }}>
            {admin ? 'registry admin' : 'no registry admin'}
            {groups.length > 0 && ` · in ${groups.join(', ')}`}
          </Typography>
          {hasPassword && <ChangePassword account={account ?? ''} />}
          <Button size="small" variant="outlined" onClick={() => signOut.mutate(undefined)}>
            Sign out
          </Button>
        </>
      }
    >
      <TokenTable title="My tokens" />
      <Section title="My roles">
        {roles.length === 0 ? (
          <Typography color="textSecondary">{admin ? 'None are needed: a registry admin may do everything.' : 'None yet. What anybody may pull can be pulled; an owner of a namespace can give more.'}</Typography>
        ) : (
          <PlainTable label="My roles" rows={roles} rowKey={(r) => `${r.place} ${r.group ?? ''}`} columns={[...roleColumns, { title: 'By the group', cell: (r: Role) => r.group ?? '' }]} />
        )}
      </Section>
    </Page>
  )
}

function ChangePassword({ account }: { account: string }) {
  const [current, setCurrent] = useState('')
  const [password, setPassword] = useState('')
  const change = useSetPassword()
  return (
    <DialogButton
      name="Change the password" title="Change the password" action="Change it" busy={change.isPending} error={change.error} ready={current !== '' && password !== ''}
      onDo={(close) => change.mutate({ name: account, current, password }, { onSuccess: () => { close(); setCurrent(''); setPassword('') } })}
    >
      <Field label="Password until now" type="password" value={current} onChange={setCurrent} autoFocus />
      <Field label="New password" type="password" value={password} onChange={setPassword} hint="At least 10 characters. Other sessions and logins end; tokens go on." />
    </DialogButton>
  )
}
