import { Tab, Tabs, Typography } from '@mui/material'
import { lazy } from 'react'
import { useSearchParams } from 'react-router'
import { Refusal } from '../api/client'
import { useRepository, useRestoreRepository } from '../api/repositories'
import { useService } from '../api/service'
import { may, useMe } from '../api/session'
import { Size } from '../parts/Amounts'
import { Restore } from '../parts/Forms'
import { Page } from '../parts/Page'
import { Empty, Trouble } from '../parts/States'
import { Members } from '../names/Members'
import { RepositorySettings } from '../names/RepositorySettings'
import { Path } from './Path'
import { Tags } from './Tags'

const TagLog = lazy(() => import('./TagLog').then((m) => ({ default: m.TagLog })))

export function RepositoryPage({ repository }: { repository: string }) {
  const about = useRepository(repository)
  const [asked, ask] = useSearchParams()
  const shown = asked.get('show') ?? 'tags'
  if (about.error) {
    const unknown = about.error instanceof Refusal && about.error.status === 404
    return (
      <Page title={repository} over={<Path repository={repository} />}>
        {unknown ? <Unknown repository={repository} /> : <Trouble asked={`Opening ${repository}`} error={about.error} again={() => void about.refetch()} />}
      </Page>
    )
  }
  const role = about.data?.role ?? ''
  return (
    <Page
      title={repository}
      over={<Path repository={repository} />}
      fill={shown === 'tags'}
      beside={
        about.data && (
          <Typography color="textSecondary">
            {about.data.tags} {about.data.tags === 1 ? 'tag' : 'tags'} · <Size bytes={about.data.size} /> · {about.data.pulls.toLocaleString('en')} pulls · {about.data.open ? 'anybody may pull' : 'only members may pull'}
            {about.data.description && ` · ${about.data.description}`}
          </Typography>
        )
      }
    >
      {about.data && (
        <Tabs value={shown} onChange={(_, to: string) => ask(to === 'tags' ? {} : { show: to }, { replace: true })} aria-label="What to show" sx={{ mb: 1.5, mt: -1.5 }}>
          <Tab value="tags" label="Tags" />
          <Tab value="log" label="What tags were" />
          {role !== '' && <Tab value="members" label="Members and roles" />}
          {role === 'owner' && <Tab value="settings" label="Settings" />}
        </Tabs>
      )}
      {shown === 'tags' && <Tags repository={repository} role={role} />}
      {shown === 'log' && <TagLog repository={repository} role={role} />}
      {shown === 'members' && <Members place={repository} owns={role === 'owner'} />}
      {shown === 'settings' && role === 'owner' && about.data && <RepositorySettings key={about.data.name} repository={about.data} />}
    </Page>
  )
}

// Unknown says that there is none, and how one comes about, to whoever may bring it.
function Unknown({ repository }: { repository: string }) {
  const me = useMe()
  const service = useService()
  const restore = useRestoreRepository()
  const mine = may(me.data, 'push', repository)
  return (
    <>
      <Empty command={mine ? `warthesis push IMAGE ${service.data?.address ?? ''}/${repository}:TAG` : undefined}>
        {mine ? `There is no repository ${repository} yet. A push makes it:` : `There is no repository ${repository} that you may see.`}
      </Empty>
      {may(me.data, 'manage', repository) && <Restore onDo={() => restore.mutate(repository)} busy={restore.isPending} error={restore.error} />}
    </>
  )
}
