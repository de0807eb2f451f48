import { Box, Link, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route, useNavigate } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { useChangeRepository, useRemoveRepository } from '../api/repositories'
import { DialogButton, Field, SaveForm, Section } from '../parts/Forms'
import { RemovePlace } from '../parts/RemovePlace'
import { sayRemoved } from '../parts/Undo'
import { labelText, readLabels } from './labels'

type Repository = Schemas['Repository']

const visibilities = [
  { value: 'inherited', name: 'whoever may in the namespace' },
  { value: 'open', name: 'anybody, without a login' },
  { value: 'closed', name: 'members alone' },
]

// RepositorySettings are what an owner sets of a repository.
export function RepositorySettings({ repository }: { repository: Repository }) {
  const [description, setDescription] = useState(repository.description ?? '')
  const [labels, setLabels] = useState(labelText(repository.labels))
  const [visibility, setVisibility] = useState<string>(repository.visibility)
  const change = useChangeRepository(repository.name)
  const remove = useRemoveRepository()
  const go = useNavigate()
  return (
    <>
      <Section title="Settings" beside={<Rename repository={repository.name} />}>
        <SaveForm saving={change.isPending} saved={change.isSuccess} error={change.error} onSave={() => change.mutate({ description, labels: readLabels(labels), visibility: visibility as 'open' })}>
          <Field label="What is in it" value={description} onChange={setDescription} />
          <Field label="Who may pull" value={visibility} onChange={setVisibility} options={visibilities} />
          <Field label="Labels" value={labels} onChange={setLabels} hint="name=value, one a line" multiline />
        </SaveForm>
      </Section>
      <Section title="Rules and removals">
        <Links place={repository.name} />
      </Section>
      <Section title="Remove">
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 2 }}>
          <Typography sx={{ flex: 1 }}>All its images leave at once for everybody. You can restore it under the same address.</Typography>
          <RemovePlace
            what="repository" name={repository.name} busy={remove.isPending} error={remove.error}
            onDo={(how) => remove.mutate({ name: repository.name, ...how }, {
              onSuccess: (done) => {
                sayRemoved({ removal: done.removal, until: done.until, says: `Removed the repository ${repository.name}.` })
                void go('/')
              },
            })}
          />
        </Box>
      </Section>
    </>
  )
}

// Links lead to the rules of a place, and to what was removed there.
export function Links({ place }: { place: string }) {
  return (
    <Box sx={{ display: 'flex', gap: 3 }}>
      <Link component={Route} to={`/rules?place=${place}`}>Which tags are sealed by rules of {place}</Link>
      <Link component={Route} to={`/removed?in=${place}`}>What was removed in {place}, and the way back</Link>
    </Box>
  )
}

function Rename({ repository }: { repository: string }) {
  const [name, setName] = useState(repository)
  const change = useChangeRepository(repository)
  const go = useNavigate()
  return (
    <DialogButton
      name="Rename" title={`Rename ${repository}`} action="Rename it" busy={change.isPending} error={change.error} ready={name !== '' && name !== repository}
      onDo={() => change.mutate({ rename: name }, { onSuccess: () => void go(repositoryPlace(name)) })}
    >
      <Field label="New name" value={name} onChange={setName} hint="The whole name, with the namespace" autoFocus />
      <Typography>References with the old name no longer lead anywhere: whoever pulls by it has to be told.</Typography>
    </DialogButton>
  )
}
