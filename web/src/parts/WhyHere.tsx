import { Box, ButtonBase, Link, Popover, Typography } from '@mui/material'
import { useState } from 'react'
import { Link as Route } from 'react-router'
import { imagePlace, repositoryPlace } from '../api/addresses'
import { type ChainLink, type Holder, useExplain } from '../api/storage'
import { useMe } from '../api/session'
import { Left, When } from './Amounts'
import { shorten } from './Digest'
import { Trouble, Waiting } from './States'

// WhyHere opens why content is here: which repositories have it, and what keeps it there.
export function WhyHere({ digest, name = 'why here' }: { digest: string; name?: string }) {
  const [at, setAt] = useState<HTMLElement>()
  const me = useMe()
  if (!me.data?.account) return null
  return (
    <>
      <ButtonBase
        aria-label={`${name}: ${shorten(digest)}`} aria-haspopup="dialog" onClick={(e) => setAt(e.currentTarget)}
        sx={{ color: 'primary.main', font: 'inherit', fontSize: '0.8125rem', textDecoration: 'underline', borderRadius: 0.5, px: 0.5 }}
      >
        {name}
      </ButtonBase>
      <Popover open={at !== undefined} anchorEl={at ?? null} onClose={() => setAt(undefined)} anchorOrigin={{ vertical: 'bottom', horizontal: 'left' }}>
        <Box role="dialog" aria-label={`Why ${shorten(digest)} is here`} sx={{ p: 2, width: 560, maxHeight: 440, overflow: 'auto' }}>
          {at && <Reasons digest={digest} />}
        </Box>
      </Popover>
    </>
  )
}

function Reasons({ digest }: { digest: string }) {
  const found = useExplain(digest, undefined, true)
  if (found.isPending) return <Waiting />
  if (found.error) return <Trouble asked="Asking why it is here" error={found.error} />
  const e = found.data
  return (
    <>
      <Typography sx={{ overflowWrap: 'anywhere' }}>{e.says}.</Typography>
      {e.hurt && <Typography color="error">It is hurt, and cannot be pulled: push it again.</Typography>}
      {e.holders.map((h) => <Held key={h.repository} holder={h} alone={e.holders.length === 1} />)}
      {e.more && <Typography color="textSecondary" sx={{ mt: 1 }}>There are more repositories that have it.</Typography>}
      {e.goes_after && <Typography sx={{ mt: 1 }}>Its bytes may go in about <Left until={e.goes_after} />.</Typography>}
      {e.next_sweep && <Typography variant="body2" color="textSecondary" sx={{ mt: 1 }}>The next sweep runs by itself <When at={e.next_sweep} />.</Typography>}
    </>
  )
}

function Held({ holder, alone }: { holder: Holder; alone: boolean }) {
  return (
    <Box sx={{ mt: 1.5 }}>
      <Typography sx={{ overflowWrap: 'anywhere' }}>
        <Link component={Route} to={repositoryPlace(holder.repository)}>{holder.repository}</Link>
        {!alone && `: ${holder.says}`}
        {holder.goes_after && <> · may go in about <Left until={holder.goes_after} /></>}
      </Typography>
      <Box component="ul" sx={{ m: 0, pl: 2, listStyle: 'none' }}>
        {holder.chains.map((chain, i) => (
          <Typography key={i} component="li" variant="body2" sx={{ overflowWrap: 'anywhere' }}>
            {(chain ?? []).map((l, n) => <span key={n}>{n > 0 && ' → '}<Name link={l} repository={holder.repository} /></span>)}
          </Typography>
        ))}
        {holder.more && <Typography component="li" variant="body2" color="textSecondary">and more</Typography>}
      </Box>
    </Box>
  )
}

function Name({ link: l, repository }: { link: ChainLink; repository: string }) {
  const gone = l.removed_by && <Typography component="span" variant="body2" color="warning.main"> (removed; can be undone for about <Left until={l.removed_by.until} />)</Typography>
  if (l.kind === 'content') return <span>{l.as}</span>
  if (l.removed_by || !l.digest) return <span>{l.kind} {l.tag ?? shorten(l.digest ?? '')}{gone}</span>
  return <span>{l.kind} <Link component={Route} to={imagePlace(repository, l.tag ?? l.digest)}>{l.tag ?? shorten(l.digest)}</Link>{l.sealed && ' (sealed)'}</span>
}
