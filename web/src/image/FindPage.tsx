import { Box, Link, Paper, Typography } from '@mui/material'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace, repositoryPlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { useFind } from '../api/images'
import { Size, When } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Page } from '../parts/Page'
import { Empty, Trouble, Waiting } from '../parts/States'
import { WhyHere } from '../parts/WhyHere'

type Place = Schemas['Place']

const isIndex = (type: string) => type.includes('index') || type.includes('list')

// A manifest that runs somewhere is an image.
const isImage = (p: Place) => (p.platforms?.length ?? 0) > 0

// whatIs says what was found, and in what.
function whatIs(p: Place): string {
  switch (p.relation) {
    case 'repository': return 'Repository'
    case 'tag': return 'Tag'
    case 'manifest': return isIndex(p.media_type ?? '') ? 'Index' : isImage(p) ? 'Image' : 'Artifact'
    case 'config': return isImage(p) ? 'Config (image ID)' : 'Config of an artifact'
    case 'layer': return isImage(p) ? 'Layer of an image' : 'File of an artifact'
    case 'child': return 'Part of an index'
    case 'diff_id': return 'Layer, unpacked'
    case 'subject': return 'What a referrer is about'
  }
  return p.relation
}

// about says what the image is that is found, or that names what is found.
function about(p: Place): string {
  const parts = []
  if (p.platforms?.length) parts.push(p.platforms.join(', '))
  else if (p.artifact_type) parts.push(p.artifact_type)
  if (p.relation !== 'tag' && p.relation !== 'repository') parts.push(p.tags?.length ? `tagged ${p.tags.join(', ')}` : 'without a tag')
  if (p.relation === 'tag' && p.tags && p.tags.length > 1) parts.push(`also tagged ${p.tags.filter((t) => t !== p.tag).join(', ')}`)
  if (p.layer) parts.push(`layer ${p.layer.slice(7, 19)}`)
  return parts.join(' · ')
}

const placeOf = (p: Place) =>
  p.relation === 'repository' ? repositoryPlace(p.repository) : imagePlace(p.repository, p.tag ?? p.holder ?? p.digest ?? '')

export function FindPage() {
  const [asked] = useSearchParams()
  const q = asked.get('q') ?? ''
  const found = useFind(q)
  return (
    <Page title={q === '' ? 'Find' : `Find “${q.length > 40 ? `${q.slice(0, 40)}…` : q}”`}>
      {q === '' && <Empty>Write a repository, name:tag, name@digest or any digest into the field above; the first six digits of a digest are enough.</Empty>}
      {q !== '' && found.isPending && <Waiting />}
      {found.error && <Trouble asked="Searching" error={found.error} again={() => void found.refetch()} />}
      {found.data?.places.length === 0 && <Empty>Nothing here has that name, tag or digest. Digests are found from their first six digits on.</Empty>}
      {found.data && found.data.places.length > 0 && (
        <Paper>
          {found.data.places.map((p, i) => (
            <Box key={i} sx={{ display: 'grid', gridTemplateColumns: '150px minmax(0, 1fr) 180px 80px', columnGap: 2, px: 2, py: 1, alignItems: 'baseline', borderTop: i === 0 ? 0 : 1, borderColor: 'divider' }}>
              <Typography color="textSecondary">{whatIs(p)}</Typography>
              <Box sx={{ minWidth: 0 }}>
                <Link component={Route} to={placeOf(p)} sx={{ overflowWrap: 'anywhere' }}>
                  {p.repository}
                  {p.tag && `:${p.tag}`}
                </Link>
                {p.relation !== 'repository' && (
                  <Typography variant="body2" color="textSecondary" sx={{ overflowWrap: 'anywhere' }}>
                    {about(p)}
                    {p.holder && p.holder !== p.digest && ` · named by ${p.holder.slice(7, 19)}`}
                    {p.since && <> · came <When at={p.since} /></>}
                    {p.digest && p.relation !== 'diff_id' && <> · <WhyHere digest={p.digest} /></>}
                    {p.twins?.map((t) => <span key={t.repository + t.digest}> · same content as <Link component={Route} underline="always" to={imagePlace(t.repository, t.digest)}>{t.repository}@{t.digest.slice(7, 19)}</Link>, whose manifest is written in another way</span>)}
                  </Typography>
                )}
              </Box>
              <span>{p.digest && <Digest digest={p.digest} />}</span>
              <Box sx={{ textAlign: 'right' }}>{p.size !== undefined && <Size bytes={p.size} />}</Box>
            </Box>
          ))}
          {found.data.more && (
            <Typography color="textSecondary" sx={{ px: 2, py: 1, borderTop: 1, borderColor: 'divider' }}>
              There is more than is shown. Write more of the name or the digest.
            </Typography>
          )}
        </Paper>
      )}
    </Page>
  )
}
