import { useState } from 'react'
import { useNavigate } from 'react-router'
import { repositoryPlace } from '../api/addresses'
import { useMakeRepository } from '../api/repositories'
import { DialogButton, Field } from '../parts/Forms'

// MakeRepository makes a repository ahead of its first push, and leads to its commands.
export function MakeRepository({ namespace }: { namespace?: string }) {
  const [name, setName] = useState(namespace ? `${namespace}/` : '')
  const [description, setDescription] = useState('')
  const make = useMakeRepository()
  const go = useNavigate()
  return (
    <DialogButton
      name="Make a repository" title="Make a repository" action="Make it" busy={make.isPending} error={make.error} ready={name !== '' && !name.endsWith('/')}
      onDo={() => make.mutate({ name, description: description || undefined }, { onSuccess: () => void go(repositoryPlace(name)) })}
    >
      <Field label="Name" value={name} onChange={setName} hint="The namespace first, then a name: berths/seatmap. Usually that of the application." autoFocus />
      <Field label="What is in it" value={description} onChange={setDescription} />
    </DialogButton>
  )
}
