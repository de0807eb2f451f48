import { Box, Link, Paper, Typography } from '@mui/material'
import { Link as Route, useSearchParams } from 'react-router'
import { imagePlace, repositoryPlace } from '../api/addresses'
import type { Schemas } from '../api/client'
import { useFind } from '../api/images'
import { Size } from '../parts/Amounts'
import { Digest } from '../parts/Digest'
import { Page } from '../parts/Page'
import { Empty, Trouble, Waiting } from '../parts/States'

type Place = Schemas['Place']

const relations: Record<string, string> = {
  repository: 'Repository', tag: 'Tag', manifest: 'Manifest or index', config: 'Config', layer: 'Layer', child: 'Part of an index', subject: 'Subject',
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
            <Box key={i} sx={{ display: 'grid', gridTemplateColumns: '140px minmax(0, 1fr) 200px 90px', columnGap: 2, px: 2, py: 1, alignItems: 'baseline', borderTop: i === 0 ? 0 : 1, borderColor: 'divider' }}>
              <Typography color="textSecondary">{relations[p.relation] ?? p.relation}</Typography>
              <Box sx={{ minWidth: 0 }}>
                <Link component={Route} to={placeOf(p)} sx={{ overflowWrap: 'anywhere' }}>
                  {p.repository}
                  {p.tag && `:${p.tag}`}
                </Link>
                {p.holder && p.holder !== p.digest && (
                  <Typography variant="body2" color="textSecondary">
                    named by {p.holder.slice(0, 19)}…
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
