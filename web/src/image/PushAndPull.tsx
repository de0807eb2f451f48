import { Box, Button, Typography } from '@mui/material'
import { useState } from 'react'
import { useService } from '../api/service'
import { useMe } from '../api/session'
import { type MadeToken, useMakeToken } from '../api/tokens'
import { repositoryTools } from './tools'
import { CommandLine, Commands } from '../parts/Commands'
import { Said } from '../parts/Forms'

// PushAndPull has the exact commands for a repository, its reader and each tool, and
// makes a token for them where that is wanted. The token stands beside the commands
// and in none of them: a command line stays in the shell's history.
export function PushAndPull({ repository, namespace, tag, digest, mayPush }: { repository: string; namespace?: string; tag?: string; digest?: string; mayPush: boolean }) {
  const service = useService()
  const me = useMe()
  const make = useMakeToken()
  const [made, setMade] = useState<MadeToken>()
  const account = me.data?.account
  const actions = mayPush ? ['pull', 'push'] : ['pull']
  const pattern = namespace ? `${namespace}/*` : repository
  const tools = repositoryTools({ address: service.data?.address ?? '', tls: service.data?.tls ?? false, repository, account, mayPush }, tag, digest)
  return (
    <Commands
      title={mayPush ? 'Push and pull here' : 'Pull here'} tools={tools}
      under={
        account && !service.data?.trial && (
          <Box sx={{ mt: 1.5, display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 1 }}>
            {!made ? (
              <Box>
                <Button
                  size="small" variant="outlined" disabled={make.isPending}
                  onClick={() => make.mutate({ name: `made for ${pattern}`, days: 90, scopes: [{ pattern, actions }] }, { onSuccess: setMade })}
                >
                  Make a token for these commands
                </Button>
              </Box>
            ) : (
              <>
                <CommandLine label="Token" command={made.secret} />
                <Typography role="status" variant="body2">
                  This is a new token, for {pattern}: {actions.join(', ')}. Paste it where logging in asks for it. It is shown this once, and good until{' '}
                  {made.ends_at ? new Date(made.ends_at).toLocaleString() : 'it is revoked'}: with this session it ends, so make one that lasts under your name, at the foot of the rail.
                </Typography>
              </>
            )}
            <Said error={make.error} />
          </Box>
        )
      }
    />
  )
}
