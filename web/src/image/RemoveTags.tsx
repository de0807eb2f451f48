import { Typography } from '@mui/material'
import { useState } from 'react'
import { type Tag, useChangeTags } from '../api/tags'
import { DialogButton, Field } from '../parts/Forms'
import { sayRemoved } from '../parts/Undo'

const someOf = (tags: Tag[]) => tags.slice(0, 8).map((t) => t.name).join(', ') + (tags.length > 8 ? ` and ${tags.length - 8} more` : '')

// RemoveTags removes tags that were chosen, all or none, where they still point to what was
// shown.
export function RemoveTags({ repository, tags, onDone }: { repository: string; tags: Tag[]; onDone: () => void }) {
  const [reason, setReason] = useState('')
  const change = useChangeTags(repository)
  const sealed = tags.filter((t) => t.seal)
  return (
    <DialogButton
      name="Remove them" label={`Remove ${tags.length} tags`} title={tags.length === 1 ? `Remove the tag ${tags[0]!.name}?` : `Remove ${tags.length} tags?`} action="Remove" busy={change.isPending} error={change.error}
      ready={sealed.length === 0} onOpen={() => change.reset()}
      onDo={(close) =>
        change.mutate(
          { changes: tags.map((t) => ({ act: 'remove', tag: t.name, if: t.digest })), reason },
          {
            onSuccess: (done) => {
              close()
              onDone()
              if (done.removal) sayRemoved({ removal: done.removal, ...(done.until && { until: done.until }), says: `Removed ${someOf(tags)} from ${repository}.` })
            },
          },
        )
      }
    >
      <Typography sx={{ overflowWrap: 'anywhere' }}>{someOf(tags)} {tags.length === 1 ? 'goes' : 'go'}. The images stay, and are reached by digest.</Typography>
      {sealed.length > 0 && (
        <Typography color="error" sx={{ overflowWrap: 'anywhere' }}>
          {someOf(sealed)} {sealed.length === 1 ? 'is' : 'are'} sealed and cannot go: {sealed[0]!.seal!.why}.
        </Typography>
      )}
      <Field label="Why (for the list of removals)" value={reason} onChange={setReason} />
    </DialogButton>
  )
}
