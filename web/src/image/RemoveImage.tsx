import { Checkbox, FormControlLabel, Typography } from '@mui/material'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import { useRemovalPlan, useRemoveImage } from '../api/tags'
import { Left, Size } from '../parts/Amounts'
import { shorten } from '../parts/Digest'
import { DialogButton, Field } from '../parts/Forms'
import { sayRemoved } from '../parts/Undo'

// RemoveImage asks before an image goes: which tags and images go with it, what stays and
// why, and what becomes free.
export function RemoveImage({ repository, digest }: { repository: string; digest: string }) {
  const [asking, setAsking] = useState(false)
  const [whole, setWhole] = useState(false)
  const [reason, setReason] = useState('')
  const plan = useRemovalPlan({ repository, reference: digest, whole }, asking)
  const remove = useRemoveImage(repository)
  const go = useNavigate()
  const p = plan.data
  return (
    <DialogButton
      name="Remove the image" title={`Remove the image ${shorten(digest)}?`} action="Remove it" busy={remove.isPending} error={remove.error ?? plan.error} ready={p !== undefined && p.sealed.length === 0}
      onOpen={() => {
        setAsking(true)
        remove.reset()
      }}
      onDo={() =>
        remove.mutate({ digest, whole, ...(reason && { reason }) }, {
          onSuccess: (done) => {
            sayRemoved({ removal: done.removal, until: done.until, says: `Removed the image ${shorten(digest)} from ${repository}.` })
            void go(repositoryPlace(repository))
          },
        })
      }
    >
      {p && (
        <>
          <Typography sx={{ overflowWrap: 'anywhere' }}>
            {p.image_count === 1 ? '1 image goes' : `${p.image_count} images go`}{p.tag_count > 0 && `, with ${p.tag_count === 1 ? 'its tag' : 'its tags'} ${p.tags.slice(0, 8).map((t) => t.tag).join(', ')}${p.tag_count > 8 ? ' …' : ''}`}. It can come back for about <Left until={p.until} />; then <Size bytes={p.freed} /> become free.
          </Typography>
          {p.kept.slice(0, 8).map((k) => (
            <Typography key={k.digest} variant="body2" color="textSecondary">{k.relation === 'subject' ? 'What refers to it' : 'Its part'}, {shorten(k.digest)}, stays: {k.why}</Typography>
          ))}
          {p.sealed.map((s) => <Typography key={s} color="error" sx={{ overflowWrap: 'anywhere' }}>{s}</Typography>)}
        </>
      )}
      <FormControlLabel label="Also its parts that nothing else names, and what refers to them, such as signatures" control={<Checkbox size="small" checked={whole} onChange={(e) => setWhole(e.target.checked)} />} />
      <Field label="Why (for the list of removals)" value={reason} onChange={setReason} />
    </DialogButton>
  )
}
