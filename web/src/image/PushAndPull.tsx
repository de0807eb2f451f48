import { Box, Button, Typography } from '@mui/material'
import { useState } from 'react'
import { useService } from '../api/service'
import { useMe } from '../api/session'
import { type MadeToken, useMakeToken } from '../api/tokens'
import { repositoryTools } from './tools'
import { Commands } from '../parts/Commands'
import { Said } from '../parts/Forms'

// PushAndPull has the exact commands for a repository, its reader and each tool,
// with a token made on the spot where that is wanted.
export function PushAndPull({ repository, namespace, tag, digest, mayPush }: { repository: string; namespace?: string; tag?: string; digest?: string; mayPush: boolean }) {
  const service = useService()
  const me = useMe()
  const make = useMakeToken()
  const [made, setMade] = useState<MadeToken>()
  const secret = made?.secret ?? ''
  const address = service.data?.address ?? ''
  const account = me.data?.account
  const actions = mayPush ? ['pull', 'push'] : ['pull']
  const pattern = namespace ? `${namespace}/*` : repository
  const tools = repositoryTools({ address, repository, account, secret, mayPush }, tag, digest)
  return (
    <Commands
      title={mayPush ? 'Push and pull here' : 'Pull here'} tools={tools}
      under={
        account && (
          <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mt: 1 }}>
            {!made ? (
              <Button
                size="small" variant="outlined" disabled={make.isPending}
                onClick={() => make.mutate({ name: `made for ${pattern}`, days: 90, scopes: [{ pattern, actions }] }, { onSuccess: setMade })}
              >
                Make a token for these commands
              </Button>
            ) : (
              <Typography role="status" variant="body2">
                The commands have a new token in them, for {pattern}: {actions.join(', ')}. It is shown this once, and good until{' '}
                {made.ends_at ? new Date(made.ends_at).toLocaleString() : 'it is revoked'}: with this session it ends, so make one that lasts under your name, at the foot of the rail.
              </Typography>
            )}
            <Said error={make.error} />
          </Box>
        )
      }
    />
  )
}
