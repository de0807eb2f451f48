import { Box, Typography } from '@mui/material'
import { useState } from 'react'
import { accountsOf, useAccounts } from '../api/accounts'
import { useGroups } from '../api/groups'
import { type Role, useGiveRole, useRoles, useTakeRole } from '../api/roles'
import { Ask, DialogButton, Field, Section } from '../parts/Forms'
import { type PlainColumn, PlainTable } from '../parts/PlainTable'
import { Trouble, Waiting } from '../parts/States'
import { roleColumns } from '../rights/roles'
import { Narrow } from './Narrow'
import { nameOf, roleNames } from './roles'

// Members are who has roles in a place, from wherever they have them.
export function Members({ place, owns }: { place: string; owns: boolean }) {
  const roles = useRoles(place, true)
  const take = useTakeRole()
  const columns: PlainColumn<Role>[] = [{ title: 'Who', cell: (r: Role) => nameOf(r) }, ...roleColumns]
  if (owns) {
    columns.push({
      title: 'Do',
      // What somebody has from above is taken there.
      cell: (r: Role) => !r.admin && (r.place === place || r.place.startsWith(`${place}/`) || (place === '' && r.place === '')) && (
        <Box sx={{ display: 'flex' }}>
          {r.place === place && place !== '' && !place.includes('/') && <Narrow role={r} namespace={place} />}
          <Ask
            name="Take" label={`Take the role of ${nameOf(r)}`} question={`Take the role ${r.role} from ${nameOf(r)}?`} action="Take it" busy={take.isPending} error={take.error}
            consequence={`From the next request on ${nameOf(r)} may not do in ${r.place || 'the registry'} what the role allows, unless by another role. It can be given again here.`}
            onDo={(done) => take.mutate({ place: r.place, account: r.account, group: r.group }, { onSuccess: done })}
          />
        </Box>
      ),
    })
  }
  return (
    <Section title="Members and roles" beside={owns ? <GiveRole place={place} /> : <Typography variant="body2" color="textSecondary">Changing them takes the role owner here.</Typography>}>
      {roles.isPending && <Waiting />}
      {roles.error && <Trouble asked="Listing the members" error={roles.error} />}
      {roles.data && <PlainTable label="Members and roles" columns={columns} rows={roles.data.roles} rowKey={(r) => `${nameOf(r)} ${r.place} ${r.admin ?? ''}`} />}
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
      <Field label="Where" value={where} onChange={setWhere} hint={place === '' ? 'Nothing for the whole registry; or a namespace, or a repository' : 'The namespace, or one repository of it: for a build machine the repository alone is best'} />
    </DialogButton>
  )
}
