import { Typography } from '@mui/material'
import { useState } from 'react'
import { useRepositories, repositoriesOf } from '../api/repositories'
import { type Role, useGiveRole, useRoleUses } from '../api/roles'
import { When } from '../parts/Amounts'
import { DialogButton, Field, Said } from '../parts/Forms'
import { nameOf, roleNames } from './roles'

// Narrow gives a role in one repository in place of one in the whole namespace, and
// says before what of the last 90 days that would have refused.
export function Narrow({ role, namespace }: { role: Role; namespace: string }) {
  const [open, setOpen] = useState(false)
  const [place, setPlace] = useState('')
  const [to, setTo] = useState<Role['role']>(role.role)
  const repositories = useRepositories({ sort: 'name', contains: '' }, namespace, open)
  const give = useGiveRole()
  const member = { account: role.account, group: role.group }
  const uses = useRoleUses({ ...member, insteadOf: namespace, place, role: to }, open && place !== '')
  const names = repositories.data?.pages.flatMap(repositoriesOf).map((r) => ({ value: r.name, name: r.name })) ?? []
  const who = nameOf(role)
  return (
    <DialogButton
      quiet name="Narrow" label={`Narrow the role of ${who}`} title={`Narrow the role of ${who} in ${namespace}`} action="Narrow it" onOpen={() => setOpen(true)}
      busy={give.isPending} error={give.error} ready={place !== '' && uses.isSuccess}
      onDo={(close) => give.mutate({ ...member, place, role: to, instead_of: namespace }, { onSuccess: () => { close(); setOpen(false) } })}
    >
      <Field label="To the repository" value={place} onChange={setPlace} options={names} />
      <Field label="Role there" value={to} onChange={(v) => setTo(v as Role['role'])} options={roleNames} />
      <Said error={uses.error} />
      {uses.data && uses.data.refused.length === 0 && <Typography role="status">Nothing that {who} did by it in the last {uses.data.days} days would have been refused.</Typography>}
      {uses.data && uses.data.refused.length > 0 && (
        <>
          <Typography role="status">Of what {who} did by it in the last {uses.data.days} days, this would have been refused:</Typography>
          <ul>
            {uses.data.refused.map((u) => (
              <li key={u.repository + u.action}>
                {u.action} in {u.repository}: {u.times} {u.times === 1 ? 'line' : 'lines'} in the audit log, the last <When at={u.last_at} />
              </li>
            ))}
          </ul>
        </>
      )}
      {uses.data && !uses.data.pulls_known && <Typography variant="body2" color="textSecondary">Pulls are not counted in this: they are in the audit log only where the namespace writes them there.</Typography>}
    </DialogButton>
  )
}
