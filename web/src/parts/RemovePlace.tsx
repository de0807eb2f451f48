import { Typography } from '@mui/material'
import { useState } from 'react'
import { useRemovalPlan } from '../api/tags'
import { useMe } from '../api/session'
import { Left, Size } from './Amounts'
import { DialogButton, Field } from './Forms'

export interface Removing {
  reason?: string
  over_seals?: string
}

// RemovePlace asks before a namespace or a repository goes: what goes with it, until about
// when it can come back, what becomes free then, and which seals say no.
export function RemovePlace({ what, name, busy, error, onDo }: { what: 'namespace' | 'repository'; name: string; busy: boolean; error: Error | null; onDo: (how: Removing) => void }) {
  const [asking, setAsking] = useState(false)
  const [reason, setReason] = useState('')
  const [over, setOver] = useState('')
  const me = useMe()
  const plan = useRemovalPlan(what === 'namespace' ? { namespace: name } : { repository: name }, asking)
  const p = plan.data
  const sealed = p && p.sealed.length > 0
  return (
    <DialogButton
      name={`Remove the ${what}`} label={`Remove the ${what} ${name}`} quiet title={`Remove the ${what} ${name}?`} action="Remove it" busy={busy} error={error ?? plan.error}
      ready={p !== undefined && (!sealed || over.trim() !== '')} onOpen={() => setAsking(true)}
      onDo={() => onDo({ ...(reason && { reason }), ...(over && { over_seals: over }) })}
    >
      {!p && !plan.error && <Typography>Looking at what is in it …</Typography>}
      {p && (
        <Typography>
          Its {what === 'namespace' && `${p.repositories ?? 0} repositories with `}{p.tag_count.toLocaleString('en')} tags and {p.image_count.toLocaleString('en')} manifests can be neither pulled nor pushed to from then on. It can come back for about <Left until={p.until} />; then <Size bytes={p.freed} /> become free.
        </Typography>
      )}
      {sealed && p.sealed.map((s) => <Typography key={s} color="error" sx={{ overflowWrap: 'anywhere' }}>{s}</Typography>)}
      {sealed && (me.data?.admin ? (
        <Field label="Why it goes although tags are sealed" value={over} onChange={setOver} hint="As a registry admin you can go over seals; it stands in the audit log." />
      ) : (
        <Typography>Unseal them first, or ask a registry admin.</Typography>
      ))}
      <Field label="Why (for the list of removals)" value={reason} onChange={setReason} />
    </DialogButton>
  )
}
