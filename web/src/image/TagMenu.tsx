import { ButtonBase, Menu, MenuItem, Typography } from '@mui/material'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { type Tag, useChangeSeal, useChangeTags } from '../api/tags'
import { Field, FormDialog } from '../parts/Forms'
import { shorten } from '../parts/Digest'
import { sayRemoved } from '../parts/Undo'

type Act = 'add' | 'move' | 'rename' | 'remove' | 'seal' | 'unseal'

const acts: { act: Act; name: string; roles: string[]; when: (t: Tag) => boolean }[] = [
  { act: 'add', name: 'Give its image another tag', roles: ['writer', 'curator', 'owner'], when: () => true },
  { act: 'move', name: 'Point it elsewhere', roles: ['curator', 'owner'], when: (t) => !t.seal },
  { act: 'rename', name: 'Rename it', roles: ['curator', 'owner'], when: (t) => !t.seal },
  { act: 'seal', name: 'Seal it', roles: ['curator', 'owner'], when: (t) => !t.seal },
  { act: 'unseal', name: 'Take the seal away', roles: ['owner'], when: (t) => t.seal !== undefined && !t.seal.rule },
  { act: 'remove', name: 'Remove it', roles: ['curator', 'owner'], when: (t) => !t.seal },
]

// TagMenu is what can be done with a tag, in words; each asks first.
export function TagMenu({ repository, tag, role }: { repository: string; tag: Tag; role: string }) {
  const [at, setAt] = useState<HTMLElement>()
  const [act, setAct] = useState<Act>()
  const go = useNavigate()
  const can = acts.filter((a) => a.roles.includes(role) && a.when(tag))
  return (
    <span onClick={(e) => e.stopPropagation()} onKeyDown={(e) => e.stopPropagation()} role="presentation">
      <ButtonBase aria-label={`more of ${tag.name}`} aria-haspopup="menu" onClick={(e) => setAt(e.currentTarget)} sx={{ color: 'primary.main', font: 'inherit', fontSize: '0.8125rem', textDecoration: 'underline', px: 0.5, mx: -0.5 }}>
        more
      </ButtonBase>
      <Menu open={at !== undefined} anchorEl={at ?? null} onClose={() => setAt(undefined)}>
        <MenuItem
          onClick={() => {
            setAt(undefined)
            void go(`/r/${repository}?show=log&tag=${encodeURIComponent(tag.name)}`)
          }}
        >
          What it was
        </MenuItem>
        {can.map((a) => (
          <MenuItem
            key={a.act}
            onClick={() => {
              setAt(undefined)
              setAct(a.act)
            }}
          >
            {a.name}
          </MenuItem>
        ))}
      </Menu>
      {act && <TagDialog repository={repository} tag={tag} act={act} onClose={() => setAct(undefined)} />}
    </span>
  )
}

const titles: Record<Act, (t: string) => string> = {
  add: (t) => `Give the image of ${t} another tag`, move: (t) => `Point ${t} elsewhere`, rename: (t) => `Rename ${t}`, remove: (t) => `Remove the tag ${t}?`,
  seal: (t) => `Seal ${t}`, unseal: (t) => `Take the seal of ${t} away?`,
}

const actions: Record<Act, string> = { add: 'Add it', move: 'Move it', rename: 'Rename it', remove: 'Remove it', seal: 'Seal it', unseal: 'Take it away' }

function TagDialog({ repository, tag, act, onClose }: { repository: string; tag: Tag; act: Act; onClose: () => void }) {
  const [text, setText] = useState('')
  const change = useChangeTags(repository)
  const seal = useChangeSeal(repository)
  const seals = act === 'seal' || act === 'unseal'
  const needs = act !== 'remove'
  const onDo = () => {
    if (seals) return seal.mutate({ tag: tag.name, seal: act === 'seal', reason: text }, { onSuccess: onClose })
    const one = {
      add: { act: 'add' as const, tag: text, to: tag.digest },
      move: { act: 'move' as const, tag: tag.name, to: text, if: tag.digest },
      rename: { act: 'rename' as const, tag: tag.name, name: text, if: tag.digest },
      remove: { act: 'remove' as const, tag: tag.name, if: tag.digest },
    }[act]
    change.mutate(
      { changes: [one], reason: act === 'remove' ? text : '' },
      {
        onSuccess: (done) => {
          onClose()
          if (done.removal) sayRemoved({ removal: done.removal, ...(done.until && { until: done.until }), says: `Removed the tag ${tag.name} from ${repository}.` })
        },
      },
    )
  }
  return (
    <FormDialog title={titles[act](tag.name)} action={actions[act]} open onClose={onClose} onDo={onDo} busy={change.isPending || seal.isPending} error={change.error ?? seal.error} ready={!needs || text.trim() !== ''}>
      {act === 'add' && <Field label="The new tag" value={text} onChange={setText} hint={`It points to ${shorten(tag.digest)} then; nothing is sent again.`} autoFocus />}
      {act === 'move' && <Field label="Tag or digest to point to" value={text} onChange={setText} hint={`It points to ${shorten(tag.digest)} now; where somebody moved it meanwhile, nothing is changed.`} autoFocus />}
      {act === 'rename' && <Field label="New name" value={text} onChange={setText} hint="Whoever pulls by the old name has to be told." autoFocus />}
      {act === 'remove' && (
        <>
          <Typography>Its image {shorten(tag.digest)} stays, and is reached by digest. The tag can be brought back.</Typography>
          <Field label="Why (for the list of removals)" value={text} onChange={setText} autoFocus />
        </>
      )}
      {act === 'seal' && (
        <>
          <Typography>It neither moves nor goes from then on, until an owner takes the seal away.</Typography>
          <Field label="Why" value={text} onChange={setText} hint="Whoever is refused is told." autoFocus />
        </>
      )}
      {act === 'unseal' && (
        <>
          <Typography>{tag.seal?.why}. It can move and go from then on.</Typography>
          <Field label="Why" value={text} onChange={setText} hint="It stands in the audit log." autoFocus />
        </>
      )}
    </FormDialog>
  )
}
